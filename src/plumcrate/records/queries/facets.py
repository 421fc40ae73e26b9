"""Which pictures a filter finds, and what each further choice would find: for half a million in one pass."""

from __future__ import annotations

from typing import Any

from sqlalchemy import ColumnElement, case, func, literal, select, tuple_
from sqlalchemy.orm import Session

from plumcrate.contract.pictures import (
    Copied,
    Facets,
    FacetValue,
    FileState,
    OwnRule,
    PictureFilter,
    SavingClass,
    ScoreClass,
    WeightClass,
)
from plumcrate.records.tables import Library, Picture

from .folders import below

_SAVED = Picture.bytes_before - Picture.bytes_now

#: The value that a picture has in each facet.
_VALUE: dict[str, ColumnElement[Any]] = {
    "state": func.coalesce(Picture.state, ""),
    "format": func.coalesce(Picture.format, ""),
    "weight": case(
        (Picture.bytes_now < 100_000, str(WeightClass.UNDER_100_KB)),
        (Picture.bytes_now < 500_000, str(WeightClass.TO_500_KB)),
        (Picture.bytes_now < 2_000_000, str(WeightClass.TO_2_MB)),
        else_=str(WeightClass.OVER_2_MB),
    ),
    "saving": case(
        (_SAVED <= 0, str(SavingClass.NONE)),
        (Picture.bytes_before > _SAVED * 4, str(SavingClass.TO_25)),
        (Picture.bytes_before > _SAVED * 2, str(SavingClass.TO_50)),
        else_=str(SavingClass.OVER_50),
    ),
    "score": case(
        (Picture.score.is_(None), str(ScoreClass.NONE)),
        (Picture.score < 60, str(ScoreClass.UNDER_60)),
        (Picture.score < 70, str(ScoreClass.TO_70)),
        (Picture.score < 80, str(ScoreClass.TO_80)),
        (Picture.score < 90, str(ScoreClass.TO_90)),
        else_=str(ScoreClass.OVER_90),
    ),
    "copied": case((Picture.bytes_lightest < Picture.bytes_now, str(Copied.YES)), else_=str(Copied.NO)),
    "rule": func.coalesce(Picture.override, str(OwnRule.NONE)),
}


def fits(filter: PictureFilter, *, but: str | None = None) -> list[ColumnElement[bool]]:
    """What holds of the pictures that a filter finds; ``but``: a facet whose choice is passed over."""
    where: list[ColumnElement[bool]] = []
    if but == "state" or not filter.state:
        where.append(Picture.state != FileState.GONE)
    for name, value in _VALUE.items():
        chosen = [str(one) for one in getattr(filter, name)]
        if chosen and name != but:
            where.append(value.in_(chosen))
    if filter.folder is not None and but != "folder":
        where.append(below(Picture.folder, filter.folder))
    if filter.search:
        where.append(Picture.path.ilike(f"%{_literal(filter.search)}%", escape="\\"))
    return where


def finds_all(filter: PictureFilter) -> bool:
    """Whether nothing is chosen."""
    return filter == PictureFilter()


def facets(session: Session, library: Library, filter: PictureFilter) -> Facets:
    """Sums over what a filter finds, and the values of every facet, the heaviest first.

    One pass over what it finds for the facets of which nothing is chosen, one more for each other.
    """
    mine = Picture.library_id == library.id
    sums = session.execute(
        select(
            func.count(),
            func.coalesce(func.sum(Picture.files), 0),
            func.coalesce(func.sum(Picture.bytes_before), 0),
            func.coalesce(func.sum(Picture.bytes_now), 0),
            func.coalesce(func.sum(Picture.bytes_lightest), 0),
        ).where(mine, *fits(filter))
    ).one()
    values: dict[str, list[FacetValue]] = {}
    free = [name for name in _VALUE if not getattr(filter, name)]
    for names, but in ((free, None), *(([name], name) for name in _VALUE if name not in free)):
        values |= _counted(session, names, [mine, *fits(filter, but=but)])
    values["folder"] = _folders(session, [mine, *fits(filter)], filter.folder or "")
    return Facets.model_validate(
        dict(
            zip(("pictures", "files", "bytes_before", "bytes_now", "bytes_lightest"), sums, strict=True),
            facets={name: values[name] for name in (*_VALUE, "folder")},
        )
    )


def _counted(
    session: Session, names: list[str], where: list[ColumnElement[bool]]
) -> dict[str, list[FacetValue]]:
    """The values of several facets, with one look at each picture."""
    if not names:
        return {}
    columns = [_VALUE[name].label(name) for name in names]
    each = select(*columns, Picture.bytes_now).where(*where).subquery()
    found = [each.c[name] for name in names]
    rows = session.execute(
        select(func.grouping(*found), *found, func.count(), func.sum(each.c.bytes_now)).group_by(
            func.grouping_sets(*(tuple_(column) for column in found))
        )
    )
    values: dict[str, list[FacetValue]] = {name: [] for name in names}
    for which, *row, pictures, weight in rows:
        # The one column that was grouped by has its bit at zero (PostgreSQL, 9.21, GROUPING).
        place = next(n for n in range(len(names)) if not which >> (len(names) - 1 - n) & 1)
        values[names[place]].append(FacetValue(name=row[place], pictures=pictures, bytes_now=weight))
    for rows_of_one in values.values():
        rows_of_one.sort(key=lambda value: (-value.bytes_now, value.name))
    return values


def _folders(session: Session, where: list[ColumnElement[bool]], within: str) -> list[FacetValue]:
    """The folders directly below one, each with all that lies in it, the heaviest first."""
    within = within.strip("/")
    start = len(within) + 2 if within else 1
    part = func.split_part(func.substr(Picture.folder, start), "/", 1)
    child = (literal(f"{within}/" if within else "") + part).label("child")
    rows = session.execute(
        select(child, func.count(), func.sum(Picture.bytes_now))
        .where(*where, func.length(Picture.folder) >= start)
        .group_by(child)
        .order_by(func.sum(Picture.bytes_now).desc(), child)
        .limit(_MOST_FOLDERS)
    )
    return [FacetValue(name=name, pictures=pictures, bytes_now=weight) for name, pictures, weight in rows]


#: So many folders are named at a time.
_MOST_FOLDERS = 500


def _literal(search: str) -> str:
    return search.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")
