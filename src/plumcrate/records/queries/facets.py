"""Which pictures a filter finds, and what each further choice would find: for half a million in one pass."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sqlalchemy import ColumnElement, String, case, func, select, type_coerce
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
    "state": type_coerce(Picture.state, String),
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


def fits(filter: PictureFilter) -> list[ColumnElement[bool]]:
    """What holds of the pictures that a filter finds."""
    where = _within(filter)
    if not filter.state:
        where.append(Picture.state != FileState.GONE)
    for name, value in _VALUE.items():
        if chosen := [str(one) for one in getattr(filter, name)]:
            where.append(value.in_(chosen))
    return where


def _within(filter: PictureFilter) -> list[ColumnElement[bool]]:
    """The part of a filter that is no choice of a facet's values."""
    where: list[ColumnElement[bool]] = []
    if filter.folder is not None:
        where.append(below(Picture.folder, filter.folder))
    if filter.search:
        where.append(Picture.path.ilike(f"%{literal(filter.search)}%", escape="\\"))
    return where


def finds_all(filter: PictureFilter) -> bool:
    """Whether nothing is chosen."""
    return filter == PictureFilter()


@dataclass(frozen=True, slots=True)
class _Kind:
    """Pictures that have the same value in every facet, and their sums."""

    values: dict[str, str]
    pictures: int
    files: int
    bytes_before: int
    bytes_now: int
    bytes_lightest: int

    def fits(self, filter: PictureFilter, *, but: str | None = None) -> bool:
        """``but``: a facet whose choice is passed over."""
        if self.values["state"] == FileState.GONE and (but == "state" or not filter.state):
            return False
        chosen = ((name, getattr(filter, name)) for name in self.values if name != but)
        return all(not wanted or self.values[name] in wanted for name, wanted in chosen)


def facets(session: Session, library: Library, filter: PictureFilter) -> Facets:
    """Sums over what a filter finds, and the values of every facet, the heaviest first.

    There are few kinds of pictures however many pictures there are, so they are counted by kind in one pass,
    and all else follows from the kinds.
    """
    mine = Picture.library_id == library.id
    kinds = _kinds(session, [mine, *_within(filter)])
    values = {name: _summed(kinds, filter, name) for name in _VALUE}
    found = [kind for kind in kinds if kind.fits(filter)]
    return Facets(
        pictures=sum(kind.pictures for kind in found),
        files=sum(kind.files for kind in found),
        bytes_before=sum(kind.bytes_before for kind in found),
        bytes_now=sum(kind.bytes_now for kind in found),
        bytes_lightest=sum(kind.bytes_lightest for kind in found),
        facets=values | {"folder": _folders(session, mine, filter)},
    )


def _kinds(session: Session, where: list[ColumnElement[bool]]) -> list[_Kind]:
    names = list(_VALUE)
    values = [_VALUE[name].label(name) for name in names]
    sizes = (Picture.files, Picture.bytes_before, Picture.bytes_now, Picture.bytes_lightest)
    each = select(*values, *sizes).where(*where).subquery()
    keys = [each.c[name] for name in names]
    sums = [func.sum(each.c[column.key]) for column in sizes]
    rows = session.execute(select(*keys, func.count(), *sums).group_by(*keys))
    return [_Kind(dict(zip(names, row, strict=False)), *map(int, row[len(names) :])) for row in rows]


def _summed(kinds: list[_Kind], filter: PictureFilter, name: str) -> list[FacetValue]:
    """The values of one facet, as if nothing were chosen of it."""
    found: dict[str, FacetValue] = {}
    for kind in kinds:
        if kind.fits(filter, but=name):
            value = found.setdefault(
                kind.values[name], FacetValue(name=kind.values[name], pictures=0, bytes_now=0)
            )
            value.pictures += kind.pictures
            value.bytes_now += kind.bytes_now
    return sorted(found.values(), key=lambda value: (-value.bytes_now, value.name))


def _folders(session: Session, mine: ColumnElement[bool], filter: PictureFilter) -> list[FacetValue]:
    """The folders directly below the one chosen, each with all that lies in it, the heaviest first."""
    start = f"{(filter.folder or '').strip('/')}/".lstrip("/")
    sums = select(Picture.folder, func.count(), func.sum(Picture.bytes_now)).where(mine, *fits(filter))
    rows = session.execute(sums.group_by(Picture.folder))
    found: dict[str, FacetValue] = {}
    for folder, pictures, weight in rows:
        below_it = folder.startswith(start) and folder.removeprefix(start).partition("/")[0]
        if not below_it:
            continue  # the folder itself
        child = start + below_it
        value = found.setdefault(child, FacetValue(name=child, pictures=0, bytes_now=0))
        value.pictures += pictures
        value.bytes_now += int(weight)
    return sorted(found.values(), key=lambda value: (-value.bytes_now, value.name))[:_MOST_FOLDERS]


#: So many folders are named at a time.
_MOST_FOLDERS = 500


def literal(search: str) -> str:
    return search.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")
