"""Descriptions are saved, changed by the many, undone and listed."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
from conftest import add_library, add_pictures
from sqlalchemy import func, select, text
from sqlalchemy.orm import Session

from plumcrate.contract.descriptions import (
    BulkRequest,
    DescriptionFilter,
    DescriptionRule,
    DescriptionSettings,
    Texts,
    TextSource,
)
from plumcrate.contract.webhooks import EventType
from plumcrate.contract.weighing import PageWords
from plumcrate.descriptions.bulk import change_many
from plumcrate.descriptions.changing import judge_again, save, undo
from plumcrate.descriptions.listing import changes, descriptions_page, summary
from plumcrate.records.database import Database
from plumcrate.records.tables import (
    Description,
    EmbeddedTexts,
    File,
    Library,
    OutgoingMessage,
    PageUse,
    Picture,
    SearchTerm,
    SitePage,
    Webhook,
)
from plumcrate.refusal import Refusal


@pytest.fixture
def session(database: Database, tmp_path: Path) -> Iterator[Session]:
    """A library of five pictures nobody has described."""
    add_library(database, tmp_path)
    add_pictures(database, 5)
    with database.begin() as session:
        session.execute(text("UPDATE pictures SET original_id = id"))
        yield session


def library_of(session: Session) -> Library:
    return session.get_one(Library, 1)


def say(session: Session, number: int, alternative: str = "", *, by: str = "Ada", **more: object) -> bool:
    picture = session.get_one(Picture, number)
    texts = Texts.model_validate({"alternative": alternative} | more)
    return save(session, library_of(session), picture, "en", texts, by)


def said(session: Session) -> dict[int, str]:
    session.expire_all()
    rows = session.execute(select(Description.picture_id, Description.alternative))
    return dict(tuple(row) for row in rows)


def found(session: Session, language: str = "en", **filter: object) -> list[int]:
    wanted = DescriptionFilter.model_validate(filter)
    page = descriptions_page(session, library_of(session), language, wanted, limit=50, after=None)
    assert page.total == len(page.rows)
    return [row.picture_id for row in page.rows]


def bulk(session: Session, deed: dict[str, object], **more: object) -> tuple[int, int, int | None]:
    request = BulkRequest.model_validate(
        {"language": "en", "which": {}, "preview": False, "deed": deed} | more
    )
    result = change_many(session, library_of(session), request, "Ada")
    assert len(result.examples) >= min(result.changed, 1)
    return result.changed, result.unchanged, result.change


def use(session: Session, picture: int, alternative: str | None = None, **words: str) -> None:
    page = session.scalar(select(SitePage)) or SitePage(library_id=1, address="https://ledge.example/visit")
    session.add(page)
    session.flush()
    number = session.scalar(select(func.count()).select_from(PageUse)) or 0
    row = PageWords(alternative=alternative, **words).model_dump()
    session.add(PageUse(page_id=page.id, library_id=1, picture_id=picture, number=number, **row))
    session.flush()


def test_what_is_said_is_tidied_kept_and_counted(session: Session) -> None:
    assert say(session, 1, "  The lamp\n room ", caption=" In June.\n\nBy night. ")
    row = session.get_one(Description, (1, "en"))
    assert (row.alternative, row.caption, row.version) == ("The lamp room", "In June.\n\nBy night.", 1)
    assert not say(session, 1, "The lamp room", caption="In June.\n\nBy night."), "nothing new"
    assert say(session, 2, "IMG_2041")
    assert say(session, 3, decorative=True)
    told = summary(session, library_of(session), "en")
    assert (told.pictures, told.described, told.decorative) == (5, 2, 1)
    wanting = {rule: count for rule, count in told.wanting.items() if count}
    assert wanting == {DescriptionRule.MISSING: 2, DescriptionRule.FILE_NAME: 1}
    assert summary(session, library_of(session), "de").wanting[DescriptionRule.MISSING] == 5


def test_nobody_overwrites_what_somebody_else_wrote_meanwhile(session: Session) -> None:
    library, picture = library_of(session), session.get_one(Picture, 1)
    save(session, library, picture, "en", Texts(alternative="The tower"), "Ada", based_on=0)
    with pytest.raises(Refusal, match=r"Ada changed the description of p01\.jpg meanwhile") as refused:
        save(session, library, picture, "en", Texts(alternative="A rock"), "Ben", based_on=0)
    assert refused.value.code == "changed-meanwhile"
    assert said(session) == {1: "The tower"}
    save(session, library, picture, "en", Texts(alternative="A rock"), "Ben", based_on=1)
    assert said(session) == {1: "A rock"}


def test_typing_on_is_one_change_and_undone_as_one(session: Session) -> None:
    for text_so_far in ("The", "The lamp", "The lamp room"):
        say(session, 1, text_so_far)
    say(session, 1, "The lamp room at dusk", by="Ben")
    library = library_of(session)
    assert [(one.by, one.pictures) for one in changes(session, library)] == [("Ben", 1), ("Ada", 1)]
    his, hers = (one.id for one in changes(session, library))
    assert undo(session, library, hers, "Ada").kept == 1, "Ben changed it since"
    assert undo(session, library, his, "Ada").undone == 1
    assert said(session) == {1: "The lamp room"}
    with pytest.raises(Refusal, match="undone already"):
        undo(session, library, his, "Ada")
    with pytest.raises(Refusal, match="there is no change 99"):
        undo(session, library, 99, "Ada")


def test_doubled_are_only_different_pictures(session: Session) -> None:
    for number in (1, 2, 3):
        say(session, number, "Tide chart" if number < 3 else "Tide chart!")
    assert found(session, wanting=["doubled"]) == [1, 2, 3]
    for number in (1, 2):
        session.get_one(File, number).sha256 = b"same"
    session.flush()
    assert found(session, wanting=["doubled"]) == [1, 2, 3], "the third is another picture"
    session.get_one(File, 3).sha256 = b"same"
    session.flush()
    assert found(session, wanting=["doubled"]) == []
    page = descriptions_page(session, library_of(session), "en", DescriptionFilter(), limit=5, after=None)
    assert [one.faults for one in page.rows[:3]] == [[], [], []]


def test_lists_are_filtered_and_go_on_by_cursor(session: Session) -> None:
    say(session, 2, "The tower at dusk")
    use(session, 4)
    assert found(session, search="tower") == [2]
    assert found(session, search="p04") == [4]
    assert found(session, used=True) == [4]
    assert found(session, used=False) == [1, 2, 3, 5]
    assert found(session, page_id=1) == [4]
    assert found(session, wanting=["missing"]) == [1, 3, 4, 5]
    assert found(session, folder="elsewhere") == []
    library, seen, after = library_of(session), [], None
    while True:
        page = descriptions_page(session, library, "en", DescriptionFilter(), limit=2, after=after)
        seen += [row.picture_id for row in page.rows]
        assert page.total == 5
        if (after := page.cursor) is None:
            break
    assert seen == [1, 2, 3, 4, 5]
    for odd in ("e30", "WzEsIDJd", "!!", "W3RydWUsICJhIl0", "WyJhIiwgImIiXQ"):
        with pytest.raises(Refusal, match="not one of this list"):
            descriptions_page(session, library, "en", DescriptionFilter(), limit=2, after=odd)


def test_suggestions_come_from_the_file_and_from_pages_of_the_language(session: Session) -> None:
    session.add(
        EmbeddedTexts(library_id=1, picture_id=1, texts=[["xmp-caption", "The lens"]], mtime_ns=1, size=1)
    )
    use(session, 1, alternative="Die Linse", language="de")
    use(session, 1, alternative=None, caption="Our lens", language="en-GB")
    (row,) = descriptions_page(
        session, library_of(session), "en", DescriptionFilter(search="p01"), limit=1, after=None
    ).rows
    alternatives = [(one.source, one.text) for one in row.suggestions if one.field == "alternative"]
    assert alternatives == [(TextSource.XMP_CAPTION, "The lens"), (TextSource.PAGE_CAPTION, "Our lens")]
    assert [one.alternative for one in row.uses] == ["Die Linse", None]
    accept = {"do": "accept", "sources": ["page-caption", "xmp-caption"]}
    assert bulk(session, accept)[:2] == (1, 4)
    assert said(session) == {1: "Our lens"}


def test_a_change_of_many_is_shown_before_and_undone_after(session: Session) -> None:
    say(session, 1, "The Tower")
    say(session, 2, decorative=True)
    deed = {"do": "fill", "pattern": "Chart {n} from {folder}"}
    assert bulk(session, deed)[:2] == (0, 5), "a folder without a name fills in nothing"
    deed = {"do": "fill", "pattern": "Chart {n}"}
    assert bulk(session, deed, preview=True) == (3, 2, None)
    assert said(session) == {1: "The Tower", 2: ""}
    changed, _, change = bulk(session, deed)
    assert changed == 3
    assert change is not None
    assert said(session) == {1: "The Tower", 2: "", 3: "Chart 3", 4: "Chart 4", 5: "Chart 5"}
    assert (
        bulk(session, {"do": "replace", "find": "chart", "replacement": "Map"}, pictures=[4], which=None)[0]
        == 1
    )
    undone = undo(session, library_of(session), change, "Ben")
    assert (undone.undone, undone.kept) == (2, 1)
    assert said(session) == {1: "The Tower", 2: "", 3: "", 4: "Map 4", 5: ""}
    assert bulk(session, {"do": "mark", "decorative": True})[:2] == (4, 1)
    assert set(said(session).values()) == {""}
    with pytest.raises(Refusal, match=r"there is no \{tide\} to fill in"):
        bulk(session, {"do": "fill", "pattern": "{tide}"})


def test_what_would_be_too_long_is_left_as_it_is(session: Session) -> None:
    say(session, 1, "a" * 2_000)
    assert bulk(session, {"do": "replace", "find": "a", "replacement": "aa"})[0] == 0
    assert said(session) == {1: "a" * 2_000}


def test_terms_and_lengths_are_judged_again_when_they_change(session: Session) -> None:
    say(session, 1, "A boat trip to the open day at the lighthouse")
    assert session.get_one(Description, (1, "en")).faults == []
    for term in ("boat trip", "open day", "lighthouse"):
        session.add(SearchTerm(library_id=1, term=term, count=7, words=term.split()))
    library_of(session).descriptions = DescriptionSettings(longest=20).model_dump(mode="json")
    session.flush()
    judge_again(session, library_of(session))
    assert session.get_one(Description, (1, "en")).faults == ["too-long", "stuffed"]
    (row,) = descriptions_page(
        session, library_of(session), "en", DescriptionFilter(search="boat"), limit=1, after=None
    ).rows
    assert sorted(one.term for one in row.terms) == ["boat trip", "lighthouse", "open day"]
    rules = [DescriptionRule.MISSING]
    library_of(session).descriptions = DescriptionSettings(rules=rules).model_dump(mode="json")
    session.flush()
    assert list(summary(session, library_of(session), "en").wanting) == rules, "others are switched off"


def test_the_site_is_told(session: Session) -> None:
    library = library_of(session).id
    for address, events in (
        ("https://ledge.example/in", [EventType.DESCRIPTIONS_CHANGED]),
        ("https://x/", []),
    ):
        session.add(Webhook(library_id=library, address=address, events=events))
    say(session, 1, "The tower", credit="Ada Marsh")
    (message,) = session.scalars(select(OutgoingMessage))
    assert message.type == "descriptions.changed"
    assert message.data["language"] == "en"
    (one,) = message.data["pictures"]
    assert (one["path"], one["alternative"], one["credit"]) == ("p01.jpg", "The tower", "Ada Marsh")


def test_pages_tell_what_they_do_not_say(session: Session) -> None:
    use(session, 1, alternative=None, language="en")
    use(session, 2, alternative=None, language="en")
    use(session, 3, alternative="", language="en")
    say(session, 2, "The tower")
    use(session, 4, alternative="Kite", language="en")
    use(session, 5, alternative="kite", language="en")
    (page,) = summary(session, library_of(session), "en").pages
    assert (page.pictures, page.without, page.known, page.alike) == (5, 2, 1, 2)
