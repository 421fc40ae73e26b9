"""What shapes each file beyond its recipe: its picture's touch-ups, the size it is made for, a watermark.

These are added to the recipe that decides about a file, in the records' own words, by one expression: so
that half a million files are asked in one query whether they are as they should be, and one is treated by
just what was asked. Nothing of it is kept with the recipe: what a run meets is what is wanted then.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import ColumnElement, and_, case, func, literal, literal_column, or_, select
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import Session, aliased

from plumcrate.contract.pictures import FileRole
from plumcrate.contract.sizes import Anchor, SizeSettings, Way
from plumcrate.contract.touches import WatermarkSettings
from plumcrate.imaging import Recipe, Sharpening, Size, Watermark
from plumcrate.imaging.shapes import Way as ShapeWay
from plumcrate.imaging.shapes import plain_size, plain_watermark
from plumcrate.records.tables import File, Picture, SizeRow, WatermarkRow

from .decision import fits, key_of

#: With a file's key: the version of the original that it is made of.
_OF = "of"
#: What a recipe says of files of the site alone.
_NOT_FOR_SIZES: dict[str, Any] = {"convert": [], "largest": [0, 0], "sharpen_all": False}
#: Touch-ups that can be made on a rendition of the site's own, whatever it shows of its picture.
_ANYWHERE = ("brightness", "contrast", "white", "saturation", "sharpen", "grey")


@dataclass(frozen=True, slots=True)
class Slot:
    """One file of a size: ``name`` tells it from the size's others."""

    name: str
    size: Size


def slots_of(settings: SizeSettings) -> list[Slot]:
    """The files that a size asks for of each picture."""
    sharpening = Sharpening(**settings.sharpening.model_dump())
    common: dict[str, Any] = {
        "anchor": str(settings.anchor),
        "grey": settings.grey,
        "format": settings.format,
        "sharpening": sharpening,
    }
    if settings.widths:
        return [Slot(f"{width}w", Size(width, 0, "fit", **common)) for width in settings.widths]
    way: ShapeWay = settings.way.value
    return [
        Slot(
            f"{density:g}x",
            Size(round(settings.width * density), round(settings.height * density), way, **common),
        )
        for density in settings.densities
    ]


def sizes_of(session: Session, library_id: int) -> dict[str, SizeSettings]:
    """A library's sizes by name."""
    rows = session.execute(
        select(SizeRow.name, SizeRow.settings).where(SizeRow.library_id == library_id).order_by(SizeRow.name)
    )
    return {name: SizeSettings.model_validate(settings) for name, settings in rows}


def watermarks_of(session: Session, library_id: int) -> list[tuple[WatermarkSettings, str]]:
    """A library's watermarks with the digests of their pictures, in the order in which they are asked."""
    rows = session.execute(
        select(WatermarkRow.settings, WatermarkRow.sha256)
        .where(WatermarkRow.library_id == library_id)
        .order_by(WatermarkRow.name)
    )
    return [(WatermarkSettings.model_validate(settings), sha256) for settings, sha256 in rows]


def core_watermark(settings: WatermarkSettings, sha256: str) -> Watermark:
    """A watermark in the words of the core, without its bytes."""
    values = settings.model_dump(include={"place", "width", "margin", "opacity", "least", "tone", "words"})
    return Watermark(**values, sha256="" if settings.words else sha256)


def shapes_of(
    session: Session, library_id: int, sizes: dict[str, SizeSettings] | None = None
) -> ColumnElement[Any]:
    """What is added to the recipe of a library's file now, for queries that join ``File`` and ``Picture``;
    with other ``sizes`` than it has, what would be."""
    known = sizes_of(session, library_id) if sizes is None else sizes
    parts = [_touches(), *_sizes(known), *_watermarks(watermarks_of(session, library_id))]
    whole = parts[0]
    for part in parts[1:]:
        whole = whole.op("||", return_type=JSONB)(part)
    return whole


def _nothing() -> ColumnElement[Any]:
    return literal_column("'{}'::jsonb", JSONB)


def _touches() -> ColumnElement[Any]:
    whole = or_(File.role == FileRole.ORIGINAL, File.size_name.is_not(None))
    kinds = " || ".join(f'@.kind == "{kind}"' for kind in _ANYWHERE)
    some = func.jsonb_path_query_array(Picture.touches, literal_column(f"'$[*] ? ({kinds})'::jsonpath"))
    return case(
        (Picture.touches.is_(None), _nothing()),
        (whole, func.jsonb_build_object("touches", Picture.touches)),
        (func.jsonb_array_length(some) > 0, func.jsonb_build_object("touches", some)),
        else_=_nothing(),
    )


def _sizes(sizes: dict[str, SizeSettings]) -> list[ColumnElement[Any]]:
    whens = [
        (and_(File.size_name == name, File.slot == slot.name), literal(_added(settings, slot), JSONB))
        for name, settings in sizes.items()
        for slot in slots_of(settings)
    ]
    if not whens:
        return []
    around = [name for name, one in sizes.items() if one.anchor is Anchor.FOCUS and one.way is Way.FILL]
    focus = case(
        (
            and_(File.size_name.in_(around), Picture.focus.is_not(None)),
            func.jsonb_build_object("focus", Picture.focus),
        ),
        else_=_nothing(),
    )
    return [case(*whens, else_=_nothing()), focus, _of()]


def _of() -> ColumnElement[Any]:
    """For a file that is made for a size: which bytes of its original it is made of."""
    original = aliased(File)
    version = (
        select(func.concat(original.mtime_ns_before, ":", original.size_before))
        .where(original.id == Picture.original_id)
        .correlate(Picture)
        .scalar_subquery()
    )
    return case((File.size_name.is_not(None), func.jsonb_build_object(_OF, version)), else_=_nothing())


def _added(settings: SizeSettings, slot: Slot) -> dict[str, Any]:
    added: dict[str, Any] = {"size": plain_size(slot.size)}
    if settings.level is not None:
        added["level"] = str(settings.level)
    if settings.copies is not None:
        added["copies"] = sorted(map(str, settings.copies))
    return added


def _watermarks(watermarks: list[tuple[WatermarkSettings, str]]) -> list[ColumnElement[Any]]:
    whens = []
    for settings, sha256 in watermarks:
        if not (settings.words or sha256):
            continue  # its picture is still to come
        own = and_(File.size_name.is_(None), literal(settings.originals))
        made = (
            File.size_name.is_not(None)
            if settings.sizes is None
            else File.size_name.in_([*settings.sizes, ""])
        )
        added = {"watermark": plain_watermark(core_watermark(settings, sha256))}
        still = and_(File.animated.is_(False), File.format != "gif")
        whens.append((and_(fits(settings.when), or_(own, made), still), literal(added, JSONB)))
    return [case(*whens, else_=_nothing())] if whens else []


def shapes_of_file(session: Session, file: File) -> dict[str, Any]:
    """What is added to the recipe of one file now."""
    added = shapes_of(session, file.library_id)
    query = select(added).select_from(File).join(Picture, Picture.id == File.picture_id)
    found: dict[str, Any] = session.scalars(query.where(File.id == file.id)).one()
    return found


def shaped_recipe(session: Session, file: File, recipe: Recipe) -> tuple[Recipe, dict[str, Any]]:
    """The recipe of one file with what shapes it now; and what is kept with the file, to tell whether it was
    treated just so."""
    added = shapes_of_file(session, file)
    if not added:
        return recipe, key_of(recipe)
    settings = {name: value for name, value in added.items() if name != _OF}
    if "size" in settings:
        settings |= _NOT_FOR_SIZES
    shaped = Recipe.from_dict(recipe.as_dict() | settings)
    if shaped.watermark is not None and shaped.watermark.sha256:
        data = watermark_bytes(session, file.library_id, shaped.watermark.sha256)
        shaped = replace(shaped, watermark=replace(shaped.watermark, data=data))
    return shaped, key_of(recipe) | added


def watermark_bytes(session: Session, library_id: int, sha256: str) -> bytes:
    """The file of a library's watermark, by its digest; empty when it was changed meanwhile."""
    found = session.scalars(
        select(WatermarkRow.picture)
        .where(WatermarkRow.library_id == library_id, WatermarkRow.sha256 == sha256)
        .limit(1)
    ).first()
    return found or b""
