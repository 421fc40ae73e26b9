"""Defining, changing and removing a library's sizes, and what that would do."""

from __future__ import annotations

from sqlalchemy import delete, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from plumcrate.contract.sizes import MOST_SIZES, SizeEffect, SizeSettings
from plumcrate.deciding.shaping import sizes_of
from plumcrate.deciding.size_names import UnfitPattern, check_pattern
from plumcrate.deciding.sizing import effect_of_sizes, settle_sizes
from plumcrate.records.tables import Library, SizeRow
from plumcrate.refusal import Refusal


def save_size(session: Session, library: Library, name: str, settings: SizeSettings, by: str) -> None:
    """Puts a size on record; what it asks for waits for the next run. Raises :class:`Refusal`."""
    session.execute(select(Library.id).where(Library.id == library.id).with_for_update())
    _refuse(sizes_of(session, library.id), name, settings)
    statement = insert(SizeRow).values(
        library_id=library.id, name=name, settings=settings.model_dump(mode="json"), by=by
    )
    session.execute(
        statement.on_conflict_do_update(
            index_elements=["library_id", "name"],
            set_={"settings": statement.excluded.settings, "by": statement.excluded.by},
        )
    )
    settle_sizes(session, library)


def remove_size(session: Session, library: Library, name: str) -> None:
    """Raises :class:`Refusal` when there is none."""
    session.execute(select(Library.id).where(Library.id == library.id).with_for_update())
    ours = SizeRow.library_id == library.id, SizeRow.name == name
    if session.execute(delete(SizeRow).where(*ours).returning(SizeRow.id)).first() is None:
        raise Refusal("not-found", f"there is no size called {name}")
    settle_sizes(session, library)


def effect_of_change(
    session: Session, library: Library, name: str, settings: SizeSettings | None
) -> SizeEffect:
    """What the library's sizes would do were one saved so, or removed. Raises :class:`Refusal`."""
    sizes = sizes_of(session, library.id)
    if settings is None:
        if sizes.pop(name, None) is None:
            raise Refusal("not-found", f"there is no size called {name}")
    else:
        _refuse(sizes, name, settings)
        sizes[name] = settings
    return effect_of_sizes(session, library, sizes)


def _refuse(sizes: dict[str, SizeSettings], name: str, settings: SizeSettings) -> None:
    if name not in sizes and len(sizes) >= MOST_SIZES:
        raise Refusal("too-many", f"a library has at most {MOST_SIZES} sizes")
    several = len(settings.densities) > 1 or len(settings.widths) > 1
    try:
        check_pattern(settings.pattern, several=several)
    except UnfitPattern as error:
        raise Refusal("unfit-pattern", str(error)) from None
    if "{name}" in settings.pattern:
        return
    for other, theirs in sizes.items():
        if other != name and _may_meet(settings, theirs):
            raise Refusal(
                "unfit-pattern",
                f"{settings.pattern}: the size {other} may give its files the same names: put "
                f"{{name}} into one of "
                "the patterns",
            )


def _may_meet(one: SizeSettings, other: SizeSettings) -> bool:
    """Whether two patterns without the size's name could come to the same name."""
    return "{name}" not in other.pattern and one.pattern == other.pattern
