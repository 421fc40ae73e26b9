"""Which files a library's sizes ask for: rows of what is to be made and removed, from what is on record.

A file that is wanted and not there is a row like one that is gone; a run makes it. One that is wanted no
longer is noted as unwanted, and the run removes it. So a size that changed costs just the files that it
changed.
"""

from __future__ import annotations

import math
from array import array
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import ColumnElement, and_, delete, exists, func, select, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from plumcrate.contract.pictures import FileRole, FileState
from plumcrate.contract.sizes import SizeEffect, SizeSettings
from plumcrate.imaging.formats import FORMATS
from plumcrate.imaging.shapes import sized, touched_size, touches_of
from plumcrate.records.queries.libraries import current_recipe
from plumcrate.records.queries.sums import refresh_pictures
from plumcrate.records.tables import Derived, File, Item, Journal, Library, Picture

from .decision import fits, variant_of, variants
from .planning import left_alone, settings_of, settled
from .shaping import Slot, shapes_of, sizes_of, slots_of
from .size_names import made_name

#: So many pictures are looked at together, and so many rows written in one statement.
_BATCH, _ROWS = 1_000, 500
#: Of what could not be had so many are named.
_NAMED = 5
_UNFIT = (FileState.GONE, FileState.UNREADABLE)


@dataclass(frozen=True, slots=True)
class _SizedOriginal:
    """An original with what its sizes depend on; ``wants``: the sizes whose rule fits it."""

    id: int
    path: str
    format: str
    width: int
    height: int
    wants: frozenset[str]


@dataclass(frozen=True, slots=True)
class _SizedRow:
    """A row of a file that is made for a size."""

    id: int
    path: str
    width: int
    height: int
    state: str
    unwanted: bool
    removed_unused: bool


@dataclass(slots=True)
class SizePlan:
    """``make``: values of new rows; ``change``: sizes in pixels that are other now; ``back``: rows that are
    wanted again; ``drop``: rows that are wanted no more; ``forget``: such of which nothing stands there."""

    make: list[dict[str, Any]] = field(default_factory=list)
    change: list[dict[str, Any]] = field(default_factory=list)
    back: list[int] = field(default_factory=list)
    drop: list[int] = field(default_factory=list)
    forget: list[int] = field(default_factory=list)
    stay: list[int] = field(default_factory=list)
    absent: int = 0
    too_small: int = 0
    of_the_site: int = 0
    removed_unused: int = 0
    taken: list[str] = field(default_factory=list)
    pictures: set[int] = field(default_factory=set)


def settle_sizes(session: Session, library: Library, where: ColumnElement[bool] | None = None) -> None:
    """Brings the rows of made files up to what the library's sizes ask for, of some pictures or all."""
    sizes = sizes_of(session, library.id)
    any_made = select(File.id).where(File.library_id == library.id, File.size_name.is_not(None)).limit(1)
    if not sizes and session.scalar(any_made) is None:
        return
    pictures: set[int] = set()
    for plan in plan_sizes(session, library, sizes, where):
        for start in range(0, len(plan.make), _ROWS):
            _add_rows(session, plan.make[start : start + _ROWS])
        if plan.change:
            session.execute(update(File), plan.change)
        for ids, unwanted in ((plan.drop + plan.forget, True), (plan.back, False)):
            if ids:
                values = {"unwanted": unwanted, "removed_unused": False}
                session.execute(update(File).where(File.id == func.any(ids)).values(values))
        pictures |= plan.pictures
    _forget_unwanted(session, library.id)
    refresh_pictures(session, sorted(pictures))


def _add_rows(session: Session, rows: list[dict[str, Any]]) -> None:
    """New rows; one of a file of the site that is gone makes way."""
    statement = insert(File).values(rows)
    given = {
        name: getattr(statement.excluded, name) for name in rows[0] if name not in ("library_id", "path")
    }
    cleared: dict[str, Any] = {"sha256": None, "before_sha256": None, "recipe": None, "treated_at": None}
    cleared |= {"held": False, "unwanted": False, "removed_unused": False}
    gone = and_(File.state == FileState.GONE, File.size_name.is_(None))
    session.execute(
        statement.on_conflict_do_update(
            index_elements=["library_id", "path"],
            set_=given | cleared,
            where=gone,
        )
    )


def _forget_unwanted(session: Session, library_id: int) -> None:
    """Rows of which nothing stands there and that nobody waits for.

    A change that is open may have put the file there already: the row, and the journal's with it, stays until
    that is settled.
    """
    waiting = exists(select(1).where(Item.file_id == File.id, Item.finished_at.is_(None)).correlate(File))
    unsettled = exists(select(1).where(Journal.file_id == File.id).correlate(File))
    ours = File.library_id == library_id, File.size_name.is_not(None), File.unwanted, ~File.removed_unused
    session.execute(delete(File).where(*ours, File.state == FileState.GONE, ~waiting, ~unsettled))


def effect_of_sizes(session: Session, library: Library, sizes: dict[str, SizeSettings]) -> SizeEffect:
    """What sizes would do to a library, with nothing done."""
    ways = variants(settings_of(current_recipe(session, library.id)), library.surveyed_at)
    number = variant_of(ways)
    as_it_is = settled(ways, number, shapes_of(session, library.id, sizes))
    effect = SizeEffect(make=0, remake=0, remove=0, stay=0, too_small=0, of_the_site=0, taken=0)
    pixels = array("Q")
    # What is planned of one batch is not on record for the next.
    for plan in plan_sizes(session, library, sizes, given=set()):
        standing = (
            select(func.count())
            .select_from(File)
            .join(Picture, Picture.id == File.picture_id)
            .where(File.id == func.any(plan.stay), ~left_alone(ways, number))
        )
        remake = session.scalar(standing.where(~as_it_is)) or 0 if plan.stay else 0
        effect.make += len(plan.make) + plan.absent
        effect.remake += remake
        effect.remove += len(plan.drop)
        effect.stay += len(plan.stay) - remake
        effect.too_small += plan.too_small
        effect.of_the_site += plan.of_the_site
        effect.removed_unused += plan.removed_unused
        effect.taken += len(plan.taken)
        effect.taken_paths += plan.taken[: _NAMED - len(effect.taken_paths)]
        pixels.extend(row["width"] * row["height"] for row in plan.make)
    effect.bytes = _guessed_bytes(session, library.id, pixels)
    return effect


def _guessed_bytes(session: Session, library_id: int, pixels: Sequence[int]) -> int | None:
    """What files of so many pixels weigh by those that were treated here; None when there are too few."""
    exponent, level, count = weights_here(session, library_id)
    if count < 5 or not pixels:
        return None
    return round(float(sum(level * float(area) ** exponent for area in pixels)))


def weights_here(session: Session, library_id: int) -> tuple[float, float, int]:
    """Bytes of a library's treated JPEGs as a power of their pixels: exponent, factor, of how many files."""
    area, size = func.ln(File.width * File.height), func.ln(File.size_now)
    row = session.execute(
        select(
            func.regr_slope(size, area),
            func.regr_intercept(size, area),
            func.count(),
        ).where(
            File.library_id == library_id,
            File.treated_at.is_not(None),
            File.width > 0,
            File.height > 0,
            File.size_now > 0,
            File.state.not_in(_UNFIT),
            File.format == "jpeg",
        )
    ).one()
    if row[0] is None:
        return 0.0, 0.0, 0
    return float(row[0]), math.exp(min(max(float(row[1]), -50.0), 50.0)), int(row[2])


# -- planning ----------------------------------------------------------------------------------


def plan_sizes(
    session: Session,
    library: Library,
    sizes: Mapping[str, SizeSettings],
    where: ColumnElement[bool] | None = None,
    given: set[int] | None = None,
) -> Iterator[SizePlan]:
    """What the rows of made files lack and have too much, some pictures at a time; nothing is written.

    ``given``: hashes of the paths that were given away so far, where the plans are not carried out; those of
    one that is are on record by the next.
    """
    slots = {name: slots_of(settings) for name, settings in sizes.items()}
    for pictures in _batches(session, library.id, sizes, where):
        ids = [picture.id for picture in pictures]
        made, others = _made_of(session, ids), _others_of(session, ids)
        plan, spoken_for = SizePlan(), set() if given is None else given
        wanted = [
            (picture, name, slot)
            for picture in pictures
            for name in sorted(picture.wants)
            for slot in slots[name]
        ]
        rows = _wanted_rows(library.id, wanted, sizes, others, plan)
        known = _known(session, library.id, [row["path"] for row in rows.values()])
        _compare(rows, made, known, spoken_for, plan)
        yield plan


def _wanted_rows(
    library_id: int,
    wanted: Sequence[tuple[_SizedOriginal, str, Slot]],
    sizes: Mapping[str, SizeSettings],
    others: Mapping[int, set[tuple[int, int]]],
    plan: SizePlan,
) -> dict[tuple[int, str, str], dict[str, Any]]:
    """Values of the rows that are wanted, by picture, size and slot."""
    rows: dict[tuple[int, str, str], dict[str, Any]] = {}
    for picture, name, slot in wanted:
        size = sized(picture.width, picture.height, slot.size)
        dense = slot.name not in ("1x",) and not slot.name.endswith("w")
        short = dense and size is not None and size != _full(picture, slot)
        if size is None or short:
            plan.too_small += 1
            continue
        if size in others.get(picture.id, ()):
            plan.of_the_site += 1
            continue
        kind = slot.size.format or ("png" if picture.format == "gif" else picture.format)
        path = made_name(picture.path, sizes[name].pattern, name, size, slot.name, _ending(picture, kind))
        folder = path.rpartition("/")[0]
        rows[picture.id, name, slot.name] = {
            "library_id": library_id,
            "picture_id": picture.id,
            "path": path,
            "folder": folder,
            "role": FileRole.RENDITION,
            "state": FileState.GONE,
            "format": kind,
            "width": size[0],
            "height": size[1],
            "size_before": 0,
            "size_now": 0,
            "mtime_ns": 0,
            "mtime_ns_before": 0,
            "size_name": name,
            "slot": slot.name,
        }
    return rows


def _full(picture: _SizedOriginal, slot: Slot) -> tuple[int, int] | None:
    """What a dense file of a size must measure: one that is cut smaller is no denser than the plain one."""
    if slot.size.way == "fit":
        return sized(picture.width, picture.height, slot.size)
    return slot.size.width, slot.size.height


def _ending(picture: _SizedOriginal, kind: str) -> str:
    """The picture's own ending where its format stays, so that ``.jpeg`` and ``.JPG`` stay what they are."""
    own = "." + picture.path.rpartition(".")[2]
    return own if own.lower() in FORMATS[kind].endings else FORMATS[kind].ending


def _compare(
    rows: dict[tuple[int, str, str], dict[str, Any]],
    made: Mapping[tuple[int, str, str], list[_SizedRow]],
    known: Mapping[str, int | None],
    spoken_for: set[int],
    plan: SizePlan,
) -> None:
    """What there is against what is wanted. ``known``: paths that have a record, with its number;
    ``spoken_for``: hashes of paths that were given away already."""
    for key, row in rows.items():
        # Of a size that was changed before a run there may be rows under its former names.
        there = next((one for one in made.get(key, ()) if one.path == row["path"]), None)
        for one in made.get(key, ()):
            if one is not there:
                _unwant(one, plan, key[0])
        if there is not None:
            spoken_for.add(hash(there.path))
            if there.removed_unused:
                plan.removed_unused += 1
                continue
            if there.unwanted:
                plan.back.append(there.id)
            if (there.width, there.height) != (row["width"], row["height"]):
                plan.change.append({"id": there.id, "width": row["width"], "height": row["height"]})
            if there.state == FileState.GONE:
                plan.absent += 1
            else:
                plan.stay.append(there.id)
        elif row["path"] in known or hash(row["path"]) in spoken_for:
            plan.taken.append(row["path"])
        else:
            spoken_for.add(hash(row["path"]))
            plan.make.append(row)
            plan.pictures.add(key[0])
    for key, former in made.items():
        if key not in rows:
            for one in former:
                _unwant(one, plan, key[0])


def _unwant(made: _SizedRow, plan: SizePlan, picture_id: int) -> None:
    if made.state == FileState.GONE:
        plan.forget.append(made.id)
        plan.pictures.add(picture_id)
    else:
        plan.drop.append(made.id)


def _batches(
    session: Session,
    library_id: int,
    sizes: Mapping[str, SizeSettings],
    where: ColumnElement[bool] | None,
) -> Iterator[list[_SizedOriginal]]:
    """Pictures with their originals, some at a time; those that want nothing too, since they may have had
    something."""
    names = list(sizes)
    last = 0
    while True:
        query = (
            select(
                File.id,
                File.picture_id,
                File.path,
                File.format,
                File.width,
                File.height,
                File.state,
                File.animated,
                File.role,
                Picture.override,
                Picture.touches,
                *[fits(sizes[name].when).label(f"wants_{at}") for at, name in enumerate(names)],
            )
            .join(Picture, Picture.original_id == File.id)
            .where(File.library_id == library_id, File.id > last)
            .order_by(File.id)
            .limit(_BATCH)
        )
        rows = session.execute(query if where is None else query.where(where)).all()
        if not rows:
            return
        last = rows[-1][0]
        yield [_picture(row, names) for row in rows]


def _picture(row: Any, names: Sequence[str]) -> _SizedOriginal:
    fit = (
        row.state not in _UNFIT
        and row.role == FileRole.ORIGINAL
        and row.format is not None
        and FORMATS[row.format].shaped
        and not row.animated
        and row.override != "leave"
        and row.width > 0
    )
    width, height = row.width, row.height
    if row.touches is not None and fit:
        width, height = touched_size(width, height, touches_of(row.touches))
    wants = frozenset(name for name, wanted in zip(names, row[11:], strict=True) if wanted and fit)
    return _SizedOriginal(row.picture_id, row.path, row.format or "", width, height, wants)


def _made_of(session: Session, pictures: Sequence[int]) -> dict[tuple[int, str, str], list[_SizedRow]]:
    """Rows of made files by picture, size and slot."""
    rows = session.execute(
        select(
            File.picture_id,
            File.size_name,
            File.slot,
            File.id,
            File.path,
            File.width,
            File.height,
            File.state,
            File.unwanted,
            File.removed_unused,
        )
        .where(File.picture_id == func.any(list(pictures)), File.size_name.is_not(None))
        .order_by(File.id)
    )
    found: dict[tuple[int, str, str], list[_SizedRow]] = {}
    for row in rows:
        found.setdefault((row[0], row[1] or "", row[2]), []).append(_SizedRow(*tuple(row)[3:]))
    return found


def _others_of(session: Session, pictures: Sequence[int]) -> dict[int, set[tuple[int, int]]]:
    """Widths and heights that the site makes of each picture itself."""
    rows = session.execute(
        select(File.picture_id, File.width, File.height).where(
            File.picture_id == func.any(list(pictures)),
            File.size_name.is_(None),
            File.role == FileRole.RENDITION,
            File.state.not_in(_UNFIT),
        )
    )
    found: dict[int, set[tuple[int, int]]] = {}
    for picture_id, width, height in rows:
        found.setdefault(picture_id, set()).add((width, height))
    return found


def _known(session: Session, library_id: int, paths: list[str]) -> dict[str, int | None]:
    """Paths that somebody has already: files on record, and copies of ours."""
    if not paths:
        return {}
    files = session.execute(
        select(File.path, File.id).where(
            File.library_id == library_id,
            File.path == func.any(paths),
            and_(File.state != FileState.GONE) | File.size_name.is_not(None),
        )
    )
    found: dict[str, int | None] = dict(files.all())
    copies = session.scalars(
        select(Derived.path).where(Derived.library_id == library_id, Derived.path == func.any(paths))
    )
    return found | dict.fromkeys(copies)
