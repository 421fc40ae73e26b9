"""Which pictures a filter of descriptions finds, and how many want for what."""

from __future__ import annotations

import json
from collections.abc import Collection, Sequence

from sqlalchemy import ColumnElement, Select, and_, delete, exists, func, insert, or_, select
from sqlalchemy.orm import Session, aliased

from plumcrate.contract.descriptions import (
    DescriptionFilter,
    DescriptionRule,
    DescriptionSettings,
    DescriptionsSummary,
    PageDescriptions,
)
from plumcrate.contract.pictures import FileState
from plumcrate.contract.weighing import PageWords, Reading
from plumcrate.records.tables import Description, EmbeddedTexts, File, Library, PageUse, Picture, SitePage

from . import cursors
from .facets import literal
from .folders import below

_SILENT = or_(Description.picture_id.is_(None), and_(Description.alternative == "", ~Description.decorative))


def doubled_folds(library_id: int, language: str) -> Select[str | None]:
    """What several pictures say whose originals are not the same bytes."""
    mine = Description.library_id == library_id, Description.language == language
    several = (
        select(Description.fold)
        .where(*mine, Description.fold.is_not(None))
        .group_by(Description.fold)
        .having(func.count() > 1)
    )
    content = func.coalesce(File.before_sha256, File.sha256, func.int8send(File.id))
    return (
        select(Description.fold)
        .join(Picture, Picture.id == Description.picture_id)
        .join(File, File.id == Picture.original_id)
        .where(*mine, Description.fold.in_(several), Picture.state != FileState.GONE)
        .group_by(Description.fold)
        .having(func.count(func.distinct(content)) > 1)
    )


def _wanting(rule: DescriptionRule, library_id: int, language: str) -> ColumnElement[bool]:
    if rule is DescriptionRule.MISSING:
        return _SILENT
    if rule is DescriptionRule.DOUBLED:
        return Description.fold.in_(doubled_folds(library_id, language))
    return Description.faults.contains([str(rule)])


def found_by(library_id: int, language: str, filter: DescriptionFilter) -> list[ColumnElement[bool]]:
    """What holds of the pictures that a filter finds, where descriptions are joined by language."""
    where = [Picture.library_id == library_id, Picture.state != FileState.GONE]
    if filter.wanting:
        where.append(or_(*(_wanting(rule, library_id, language) for rule in filter.wanting)))
    if filter.folder is not None:
        where.append(below(Picture.folder, filter.folder))
    if filter.search:
        text = f"%{literal(filter.search)}%"
        fields = (Picture.path, Description.alternative, Description.title, Description.caption)
        where.append(or_(*(field.ilike(text, escape="\\") for field in fields)))
    if filter.page_id is not None:
        where.append(Picture.id.in_(select(PageUse.picture_id).where(PageUse.page_id == filter.page_id)))
    if filter.used is not None:
        shown = exists().where(PageUse.picture_id == Picture.id)
        where.append(shown if filter.used else ~shown)
    return where


def joined(language: str) -> ColumnElement[bool]:
    """How a picture finds its description."""
    return and_(Description.picture_id == Picture.id, Description.language == language)


def ids_page(
    session: Session,
    library_id: int,
    language: str,
    filter: DescriptionFilter,
    *,
    limit: int,
    after: str | None,
) -> tuple[list[int], int, str | None]:
    """Numbers of pictures by path; how many there are in all; the cursor of the next page.

    Raises :class:`~plumcrate.refusal.Refusal` for a cursor that is none of this list.
    """
    of = f"descriptions of {library_id} in {language}"
    where = found_by(library_id, language, filter)
    whole = select(func.count()).select_from(Picture).outerjoin(Description, joined(language)).where(*where)
    if after is None:
        total = session.scalar(whole) or 0
    else:
        match cursors.read(after, of):
            case [int(count), str(path)] if cursors.is_text(path) and cursors.is_whole(count):
                total = count
                where.append(Picture.path > path)
            case _:
                raise cursors.not_one_of_this_list()
    rows = session.execute(
        select(Picture.id, Picture.path)
        .outerjoin(Description, joined(language))
        .where(*where)
        .order_by(Picture.path)
        .limit(limit + 1)
    ).all()
    following = cursors.written(of, [total, rows[limit - 1].path]) if len(rows) > limit else None
    return [row.id for row in rows[:limit]], total, following


def all_ids(session: Session, library_id: int, language: str, filter: DescriptionFilter) -> list[int]:
    """Every picture that a filter finds, by path."""
    found = select(Picture.id).outerjoin(Description, joined(language)).order_by(Picture.path)
    return list(session.scalars(found.where(*found_by(library_id, language, filter))))


def main_language(library: Library) -> str:
    """The library's first language."""
    return DescriptionSettings.model_validate(library.descriptions).languages[0]


def summary(
    session: Session, library: Library, language: str, rules: Sequence[DescriptionRule]
) -> DescriptionsSummary:
    """Counts of a library's pictures, in one pass over its descriptions and one over its weighed pages."""
    counted = [func.count().filter(_wanting(rule, library.id, language)) for rule in rules]
    pictures, described, decorative, *wanting = session.execute(
        select(
            func.count(),
            func.count().filter(Description.alternative != ""),
            func.count().filter(Description.decorative),
            *counted,
        )
        .select_from(Picture)
        .outerjoin(Description, joined(language))
        .where(Picture.library_id == library.id, Picture.state != FileState.GONE)
    ).one()
    read = select(func.count()).where(EmbeddedTexts.library_id == library.id)
    return DescriptionsSummary(
        language=language,
        pictures=pictures,
        described=described,
        decorative=decorative,
        wanting=dict(zip(rules, wanting, strict=True)),
        pages=page_figures(session, library.id, language),
        read=session.scalar(read) or 0,
    )


def alternatives_of(
    session: Session, library_id: int, pictures: Collection[int]
) -> dict[int, dict[str, str]]:
    """What pictures say by language, in the order of the library's languages."""
    says = or_(Description.alternative != "", Description.decorative)
    rows = session.execute(
        select(Description.picture_id, Description.language, Description.alternative).where(
            Description.picture_id.in_(pictures), says
        )
    ).all()
    if not rows:
        return {}
    languages = DescriptionSettings.model_validate(
        session.get_one(Library, library_id).descriptions
    ).languages
    order = {language: place for place, language in enumerate(languages)}
    said: dict[int, dict[str, str]] = {}
    for row in sorted(rows, key=lambda row: (order.get(row.language, len(order)), row.language)):
        said.setdefault(row.picture_id, {})[row.language] = row.alternative
    return said


def described_among(session: Session, ids: Collection[int]) -> set[int]:
    """Those pictures that say something in some language, or are decorative."""
    says = or_(Description.alternative != "", Description.decorative)
    return set(session.scalars(select(Description.picture_id).where(Description.picture_id.in_(ids), says)))


def note_uses(session: Session, library_id: int, page_id: int, readings: Sequence[Reading]) -> None:
    """Where a page shows pictures of the library, as it was weighed last; what was noted before is
    forgotten."""
    session.execute(delete(PageUse).where(PageUse.page_id == page_id))
    shown: dict[tuple[int, str], dict[str, object]] = {}
    for one in (picture for reading in readings for picture in reading.pictures):
        if one.picture_id is None:
            continue
        # A background or a poster says nothing, and needs no words.
        words = one.said.model_dump() if one.said is not None else PageWords(alternative="").model_dump()
        key = one.picture_id, json.dumps(words)
        shown.setdefault(
            key, {"page_id": page_id, "library_id": library_id, "picture_id": one.picture_id} | words
        )
    known = set(
        session.scalars(
            select(Picture.id).where(Picture.library_id == library_id, Picture.id.in_({i for i, _ in shown}))
        )
    )
    rows = [
        row | {"number": number}
        for number, ((picture_id, _), row) in enumerate(shown.items())
        if picture_id in known
    ]
    if rows:
        session.execute(insert(PageUse), rows)


def page_figures(session: Session, library_id: int, language: str) -> list[PageDescriptions]:
    """What each weighed page says of its pictures, in its own language where it states one."""
    silent = PageUse.alternative.is_(None)
    known = or_(Description.alternative != "", Description.decorative)
    own = func.coalesce(func.nullif(PageUse.language, ""), language)
    other = aliased(PageUse)
    alike = exists().where(
        other.page_id == PageUse.page_id,
        other.picture_id != PageUse.picture_id,
        other.alternative != "",
        func.lower(other.alternative) == func.lower(PageUse.alternative),
    )
    pictures = func.count(func.distinct(PageUse.picture_id))
    rows = session.execute(
        select(
            SitePage.id,
            SitePage.address,
            pictures,
            pictures.filter(silent),
            pictures.filter(silent, known),
            pictures.filter(alike),
        )
        .join(PageUse, PageUse.page_id == SitePage.id)
        .outerjoin(
            Description,
            and_(
                Description.picture_id == PageUse.picture_id,
                func.split_part(Description.language, "-", 1) == func.split_part(own, "-", 1),
            ),
        )
        .where(SitePage.library_id == library_id)
        .group_by(SitePage.id)
        .order_by(SitePage.address)
    )
    names = ("page_id", "address", "pictures", "without", "known", "alike")
    return [PageDescriptions(**dict(zip(names, row, strict=True))) for row in rows]
