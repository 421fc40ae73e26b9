"""What is known of some pictures in a language: their texts, and what was said of them elsewhere."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy import select
from sqlalchemy.orm import Session

from plumcrate.contract.descriptions import PageUse as PageUseView
from plumcrate.contract.descriptions import Suggestion, Texts, TextSource
from plumcrate.records.tables import Description, EmbeddedTexts, PageUse, Picture, SitePage

from .suggesting import KnownText, suggestions_of

_PLACES = (TextSource.XMP_PLACE, TextSource.IPTC_PLACE)
NO_TEXTS = Texts()


@dataclass(frozen=True)
class KnownPicture:
    """One picture. ``row`` is None where nobody described it in the language."""

    picture: Picture
    row: Description | None
    suggestions: list[Suggestion]
    uses: list[PageUseView]
    place: str

    @property
    def texts(self) -> Texts:
        return texts_of(self.row)


def texts_of(row: Description | None) -> Texts:
    return NO_TEXTS if row is None else Texts.model_validate(row, from_attributes=True)


def known_pictures(session: Session, language: str, ids: Sequence[int]) -> list[KnownPicture]:
    """In the order of their numbers as given; those that are not there are left out."""
    pictures = {row.id: row for row in session.scalars(select(Picture).where(Picture.id.in_(ids)))}
    rows = {
        row.picture_id: row
        for row in session.scalars(
            select(Description)
            .where(Description.picture_id.in_(ids), Description.language == language)
            .execution_options(populate_existing=True)
        )
    }
    said: dict[int, list[KnownText]] = defaultdict(list)
    embedded = select(EmbeddedTexts.picture_id, EmbeddedTexts.texts).where(EmbeddedTexts.picture_id.in_(ids))
    for picture_id, texts in session.execute(embedded):
        said[picture_id] += [KnownText(TextSource(source), text) for source, text in texts]
    uses = _uses(session, ids, language, said)
    return [
        KnownPicture(
            picture=pictures[number],
            row=rows.get(number),
            suggestions=suggestions_of(pictures[number].path, said[number]),
            uses=uses.get(number, []),
            place=next((one.text for kind in _PLACES for one in said[number] if one.source is kind), ""),
        )
        for number in ids
        if number in pictures
    ]


def _uses(
    session: Session, ids: Sequence[int], language: str, said: dict[int, list[KnownText]]
) -> dict[int, list[PageUseView]]:
    """Where pages show the pictures; what pages of the language say there is added to ``said``."""
    rows = session.execute(
        select(PageUse, SitePage.address)
        .join(SitePage, SitePage.id == PageUse.page_id)
        .where(PageUse.picture_id.in_(ids))
        .order_by(PageUse.page_id, PageUse.number)
    )
    uses: dict[int, list[PageUseView]] = defaultdict(list)
    for use, address in rows:
        view = PageUseView(
            page_id=use.page_id, address=address, language=use.language, alternative=use.alternative
        )
        if view not in uses[use.picture_id]:
            uses[use.picture_id].append(view)
        if use.language and use.language.partition("-")[0].lower() != language.partition("-")[0]:
            continue
        for source, text in (
            (TextSource.PAGE_ALTERNATIVE, use.alternative),
            (TextSource.PAGE_CAPTION, use.caption),
            (TextSource.PAGE_HEADING, use.heading),
            (TextSource.PAGE_LINK, use.link),
        ):
            if text:
                said[use.picture_id].append(KnownText(source, text, address))
    return uses
