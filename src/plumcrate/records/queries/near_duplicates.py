"""Groups of near duplicates as the wire shows them."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Mapping

from sqlalchemy import Executable, Select, func, select, tuple_
from sqlalchemy.orm import Session

from plumcrate.contract.near_duplicates import NearDuplicate, NearDuplicateGroup, NearDuplicates, ShownAlike
from plumcrate.contract.pictures import FileState
from plumcrate.records.tables import PageUse, Picture, Redirect, SitePage, VisualHash

from . import cursors

#: Pages are named up to so many.
_PAGES = 5
#: The largest of a group comes first.
_LARGEST_FIRST = (VisualHash.width * VisualHash.height).desc(), VisualHash.picture_id


def near_duplicates(session: Session, library_id: int, after: str | None, limit: int) -> NearDuplicates:
    """Groups, those with most bytes to spare first. Raises Refusal for a cursor of another list."""
    of = f"near duplicates of {library_id}"
    groups = _groups(library_id).subquery()
    total, pictures, spare = session.execute(
        select(
            func.count(),
            func.coalesce(func.sum(groups.c.pictures), 0),
            func.coalesce(func.sum(groups.c.spare), 0),
        )
    ).one()
    query = select(groups).order_by(groups.c.spare.desc(), groups.c.id.desc()).limit(limit + 1)
    if after is not None:
        values = cursors.read(after, of)
        if len(values) != 2 or not cursors.is_whole(*values):
            raise cursors.not_one_of_this_list()
        query = query.where(tuple_(groups.c.spare, groups.c.id) < tuple_(*values))
    found = session.execute(query).all()
    rows = found[:limit]
    more = cursors.written(of, [int(rows[-1].spare), rows[-1].id]) if len(found) > limit else None
    members = _members(session, library_id, [row.id for row in rows])
    several = _pages_of_several(session, library_id, [row.id for row in rows])
    return NearDuplicates(
        rows=[
            NearDuplicateGroup(
                id=row.id,
                pictures=members[row.id],
                bytes=int(row.bytes),
                spare=int(row.spare),
                pages=several[row.id],
            )
            for row in rows
        ],
        total=total,
        pictures=int(pictures),
        spare=int(spare),
        cursor=more,
    )


def _groups(library_id: int) -> Select[tuple[int, int, int, int]]:
    """Each group with how many pictures it has, their bytes, and those of all but the largest."""
    ordered = (
        select(VisualHash.group_id, Picture.bytes_now)
        .join(Picture, Picture.id == VisualHash.picture_id)
        .where(
            VisualHash.library_id == library_id,
            VisualHash.group_id.is_not(None),
            Picture.state != FileState.GONE,
        )
        .order_by(VisualHash.group_id, *_LARGEST_FIRST)
        .subquery()
    )
    sizes = func.array_agg(ordered.c.bytes_now)
    total = func.sum(ordered.c.bytes_now)
    return (
        select(
            ordered.c.group_id.label("id"),
            func.count().label("pictures"),
            total.label("bytes"),
            (total - sizes[1]).label("spare"),
        )
        .group_by(ordered.c.group_id)
        .having(func.count() > 1)
    )


def _members(session: Session, library_id: int, groups: Collection[int]) -> Mapping[int, list[NearDuplicate]]:
    rows = session.execute(
        select(VisualHash, Picture, Redirect.to_id)
        .join(Picture, Picture.id == VisualHash.picture_id)
        .outerjoin(Redirect, Redirect.picture_id == Picture.id)
        .where(
            VisualHash.library_id == library_id,
            VisualHash.group_id.in_(groups),
            Picture.state != FileState.GONE,
        )
        .order_by(VisualHash.group_id, *_LARGEST_FIRST)
    ).all()
    shown = _pages_of(session, [picture.id for _, picture, _ in rows])
    found: dict[int, list[NearDuplicate]] = defaultdict(list)
    for seen, picture, redirect in rows:
        members = found[seen.group_id or 0]
        members.append(
            NearDuplicate(
                picture_id=picture.id,
                file_id=picture.original_id,
                path=picture.path,
                format=picture.format,
                width=seen.width,
                height=seen.height,
                files=picture.files,
                bytes=picture.bytes_now,
                largest=not members,
                shows=_shows(seen) if members else None,
                pages=shown[picture.id],
                redirect=redirect,
            )
        )
    return found


def _shows(seen: VisualHash) -> ShownAlike | None:
    match = seen.match
    if match is None:
        return None
    return ShownAlike(
        identical=match["identical"],
        scale=match["scale"],
        turn=match["turn"],
        part=match["of_first"],
        alike=match["alike"],
    )


def _pages_of(session: Session, pictures: Collection[int]) -> Mapping[int, list[str]]:
    """Which weighed pages show each picture."""
    return _addresses(
        session,
        select(PageUse.picture_id, SitePage.address)
        .join(SitePage, SitePage.id == PageUse.page_id)
        .where(PageUse.picture_id.in_(pictures))
        .group_by(PageUse.picture_id, SitePage.address)
        .order_by(PageUse.picture_id, SitePage.address),
    )


def _pages_of_several(session: Session, library_id: int, groups: Collection[int]) -> Mapping[int, list[str]]:
    """Which weighed pages show more than one of each group."""
    return _addresses(
        session,
        select(VisualHash.group_id, SitePage.address)
        .join(PageUse, PageUse.picture_id == VisualHash.picture_id)
        .join(SitePage, SitePage.id == PageUse.page_id)
        .where(VisualHash.library_id == library_id, VisualHash.group_id.in_(groups))
        .group_by(VisualHash.group_id, SitePage.address)
        .having(func.count(func.distinct(VisualHash.picture_id)) > 1)
        .order_by(VisualHash.group_id, SitePage.address),
    )


def _addresses(session: Session, query: Executable) -> Mapping[int, list[str]]:
    found: dict[int, list[str]] = defaultdict(list)
    for number, address in session.execute(query):
        if number is not None and len(found[number]) < _PAGES:
            found[number].append(address)
    return found
