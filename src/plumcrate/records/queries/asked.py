"""Which files that were made for sizes anybody asked for."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from sqlalchemy import func, select, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from plumcrate.records.tables import AskedFile, Derived, File

_BATCH = 1_000


def note_asked(session: Session, file_ids: Iterable[int]) -> None:
    """Notes files as asked for today; those that were made for no size are passed over, and those that were
    removed are wanted again."""
    wanted = sorted(set(file_ids))
    for at in range(0, len(wanted), _BATCH):
        part = wanted[at : at + _BATCH]
        made = session.scalars(select(File.id).where(File.id.in_(part), File.size_name.is_not(None))).all()
        if made:
            rows = [{"file_id": number} for number in sorted(made)]
            statement = insert(AskedFile).values(rows)
            session.execute(
                statement.on_conflict_do_update(index_elements=["file_id"], set_={"day": func.current_date()})
            )
            session.execute(
                update(File)
                .where(File.id.in_(made), File.removed_unused)
                .values(removed_unused=False, unwanted=False)
                .execution_options(synchronize_session=False)
            )


def note_asked_paths(session: Session, library_id: int, paths: Sequence[str]) -> None:
    """The same by paths of files, or of what stands beside them."""
    for at in range(0, len(paths), _BATCH):
        part = list(paths[at : at + _BATCH])
        own = session.scalars(select(File.id).where(File.library_id == library_id, File.path.in_(part)))
        beside = session.scalars(
            select(Derived.file_id).where(Derived.library_id == library_id, Derived.path.in_(part))
        )
        note_asked(session, [*own, *beside])
