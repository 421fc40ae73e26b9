"""Pictures that show the same are found, grouped and kept up; what a person says of them holds."""

from __future__ import annotations

from pathlib import Path
from types import SimpleNamespace

import pytest
from conftest import add_library, photograph, surveyed
from PIL import Image
from sqlalchemy import select
from sqlalchemy.orm import Session

from plumcrate.contract.jobs import JobKind, NearDuplicatesReport
from plumcrate.contract.near_duplicates import NearDuplicateGroup
from plumcrate.imaging import Limits
from plumcrate.imaging.near_duplicates.hashing import perceptual_hash
from plumcrate.intake.grouping import keep_apart
from plumcrate.intake.near_duplicates import find_near_duplicates
from plumcrate.intake.redirects import redirect, take_back
from plumcrate.jobs.long_work import carry_out
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.state import StateFolder
from plumcrate.records.database import Database
from plumcrate.records.queries.delivery import known_at
from plumcrate.records.queries.near_duplicates import near_duplicates
from plumcrate.records.queries.pages import page_files
from plumcrate.records.tables import Derived, File, Job, Library, PageUse, Picture, SitePage
from plumcrate.refusal import Refusal

LOOKED_AT: list[int] = []


def _hash(data: bytes) -> tuple[int, int, bytes]:
    LOOKED_AT.append(len(data))
    found = perceptual_hash(data, Limits())
    return found.width, found.height, found.as_bytes()


SANDBOX = SimpleNamespace(perceptual_hash=_hash)


@pytest.fixture
def keeper(database: Database, tmp_path: Path) -> Keeper:
    """Four photographs. One is there smaller, cut and as a whole again; one has its bytes twice."""
    root = tmp_path / "library"
    for number in range(4):
        photograph(root / f"up/{number}.jpg", 480, 320, number)
    (root / "more").mkdir()
    with Image.open(root / "up/0.jpg") as image:
        image.resize((240, 160)).save(root / "more/small.png")
        image.crop((40, 30, 440, 300)).save(root / "more/cut.jpg", quality=80)
    (root / "more/again.jpg").write_bytes((root / "up/1.jpg").read_bytes())
    (root / "more/broken.jpg").write_bytes((root / "up/2.jpg").read_bytes()[:700])
    add_library(database, root)
    (tmp_path / "state").mkdir()
    with database.begin() as session:
        library = session.get_one(Library, 1)
    keeper = Keeper.of(database, library, StateFolder(database, tmp_path / "state"))
    surveyed(database, keeper)
    LOOKED_AT.clear()
    return keeper


def look(keeper: Keeper) -> NearDuplicatesReport:
    with keeper.database.begin() as session:
        row = Job(library_id=1, kind=JobKind.NEAR_DUPLICATES)
        session.add(row)
    work = {
        JobKind.NEAR_DUPLICATES: lambda library, follow: find_near_duplicates(
            keeper, SANDBOX, follow, at_a_time=2, most_bytes=10**7
        )
    }
    carry_out(keeper.database, row.id, work)
    with keeper.database.begin() as session:
        row = session.get_one(Job, row.id)
    assert row.state == "finished", row.reason
    return NearDuplicatesReport.model_validate(row.report)


def groups(keeper: Keeper) -> list[NearDuplicateGroup]:
    with keeper.database.begin() as session:
        return near_duplicates(session, 1, None, 20).rows


def named(keeper: Keeper) -> set[frozenset[str]]:
    return {frozenset(one.path for one in group.pictures) for group in groups(keeper)}


def number_of(keeper: Keeper, path: str) -> int:
    with keeper.database.begin() as session:
        return session.scalars(select(Picture.id).where(Picture.path == path)).one()


SHOWN = frozenset({"up/0.jpg", "more/small.png", "more/cut.jpg"})
TWICE = frozenset({"up/1.jpg", "more/again.jpg"})


def test_what_shows_the_same_is_grouped_and_how_is_told(keeper: Keeper) -> None:
    report = look(keeper)
    assert (report.pictures, report.looked_at, report.unreadable) == (8, 8, 1)
    assert (report.groups, report.in_groups, report.compared) == (2, 5, 7)
    assert named(keeper) == {SHOWN, TWICE}
    found = {one.path: one for group in groups(keeper) for one in group.pictures}
    assert found["up/0.jpg"].largest
    assert found["up/0.jpg"].shows is None
    small, cut = (found[f"more/{name}"].shows for name in ("small.png", "cut.jpg"))
    again = found["more/again.jpg"].shows or found["up/1.jpg"].shows
    assert small is not None
    assert cut is not None
    assert again is not None
    assert (small.scale, small.part) == (pytest.approx(0.5, rel=0.05), pytest.approx(1, abs=0.05))
    assert cut.part == pytest.approx(0.7, abs=0.05)
    assert (cut.identical, again.identical) == (False, True)
    for group in groups(keeper):
        assert group.spare == group.bytes - group.pictures[0].bytes


def test_only_what_is_new_or_changed_is_looked_at_again(keeper: Keeper) -> None:
    look(keeper)
    LOOKED_AT.clear()
    assert look(keeper).looked_at == 1  # the broken one, which may be whole by now
    assert len(LOOKED_AT) == 1
    photograph(keeper.store.root / "more/cut.jpg", 400, 270, 9)
    surveyed(keeper.database, keeper)
    assert look(keeper).looked_at == 2
    assert named(keeper) == {SHOWN - {"more/cut.jpg"}, TWICE}
    (keeper.store.root / "more/again.jpg").unlink()
    surveyed(keeper.database, keeper)
    look(keeper)
    assert named(keeper) == {SHOWN - {"more/cut.jpg"}}


def test_one_that_is_kept_apart_stays_so_until_it_is_taken_back(keeper: Keeper) -> None:
    look(keeper)
    cut = number_of(keeper, "more/cut.jpg")
    with keeper.database.begin() as session:
        keep_apart(session, 1, cut, True)
    assert named(keeper) == {SHOWN - {"more/cut.jpg"}, TWICE}
    look(keeper)
    assert named(keeper) == {SHOWN - {"more/cut.jpg"}, TWICE}
    with keeper.database.begin() as session:
        keep_apart(session, 1, cut, False)
    assert named(keeper) == {SHOWN, TWICE}
    broken = number_of(keeper, "more/broken.jpg")
    with pytest.raises(Refusal) as refused, keeper.database.begin() as session:
        keep_apart(session, 1, broken, True)
    assert refused.value.code == "not-looked-at"


def test_groups_come_in_pages_and_say_which_pages_show_several(keeper: Keeper) -> None:
    look(keeper)
    with keeper.database.begin() as session:
        page = SitePage(library_id=1, address="https://ledge.example/")
        session.add(page)
        session.flush()
        for path in ("up/0.jpg", "more/cut.jpg", "up/1.jpg"):
            number = session.scalars(select(Picture.id).where(Picture.path == path)).one()
            session.add(PageUse(page_id=page.id, picture_id=number, number=0, library_id=1))
    with keeper.database.begin() as session:
        first = near_duplicates(session, 1, None, 1)
        rest = near_duplicates(session, 1, first.cursor, 5)
    assert (first.total, first.pictures, len(first.rows)) == (2, 5, 1)
    assert rest.cursor is None
    assert {one.path for one in first.rows[0].pictures} != {one.path for one in rest.rows[0].pictures}
    shown = {frozenset(one.path for one in group.pictures): group.pages for group in groups(keeper)}
    assert shown == {SHOWN: ["https://ledge.example/"], TWICE: []}
    for wrong in ("bm9uc2Vuc2U", "WzFd", "W3RydWUsIDFd"):
        with pytest.raises(Refusal), keeper.database.begin() as session:
            near_duplicates(session, 1, wrong, 5)


TYPES = {"jpeg": "image/jpeg", "avif": "image/avif"}


def instead(session: Session) -> str | None:
    known = known_at(session, 1, "more/again.jpg")
    assert known is not None
    return known.redirect


def test_a_redirected_picture_is_answered_with_the_others_fitting_file(keeper: Keeper) -> None:
    small, large = number_of(keeper, "more/again.jpg"), number_of(keeper, "up/1.jpg")
    with keeper.database.begin() as session:
        file = session.scalars(select(File).where(File.path == "up/1.jpg")).one()
        session.add(
            Derived(
                library_id=1,
                file_id=file.id,
                purpose="copy",
                format="avif",
                path="up/1.jpg.avif",
                size=100,
                sha256=b"x",
            )
        )
    with keeper.database.begin() as session:
        both = (session.get_one(Picture, number) for number in (small, large))
        said = redirect(session, *both, "Ada")
        assert (said.to_path, said.by) == ("up/1.jpg", "Ada")
    with keeper.database.begin() as session:
        assert instead(session) == "up/1.jpg"
        _, file = page_files(session, 1, ["more/again.jpg"], TYPES)["more/again.jpg"]
        assert [copy.path for copy in file.copies] == ["up/1.jpg.avif"]
    with keeper.database.begin() as session:
        take_back(session, session.get_one(Picture, small))
    with keeper.database.begin() as session:
        assert instead(session) is None


def test_redirects_make_no_chains_and_no_circles(keeper: Keeper) -> None:
    numbers = [number_of(keeper, f"up/{name}.jpg") for name in range(3)]
    with keeper.database.begin() as session:
        first, second, third = (session.get_one(Picture, number) for number in numbers)
        redirect(session, first, second, "Ada")
        for picture, target in ((first, first), (second, first), (second, third), (third, first)):
            with pytest.raises(Refusal) as refused:
                redirect(session, picture, target, "Ada")
            assert refused.value.code == "cannot-redirect"
        assert redirect(session, first, third, "Ada").to == third.id
