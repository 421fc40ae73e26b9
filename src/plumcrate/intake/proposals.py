"""Files that seem to be renditions for what they show, folder by folder, until a person says yes or no."""

from __future__ import annotations

from sqlalchemy import ColumnElement, delete, func, select
from sqlalchemy.orm import Session

from plumcrate.contract.mapping import FolderProposal, MappedRendition, ProposalAnswer
from plumcrate.contract.mapping import ProposedRendition as ProposedView
from plumcrate.contract.pictures import FileRole, FileState
from plumcrate.records.tables import File, Library, ProposedRendition
from plumcrate.refusal import Refusal

from .mapping import note_renditions

_SHOWN, _MOST_AT_ONCE = 6, 5_000
#: How the site made the file, as far as we know.
_MADE_BY = "shows the same"


def proposals(session: Session, library: Library) -> list[FolderProposal]:
    """Folder by folder, those with the most first, with a few examples of each."""
    rows = session.scalars(
        select(ProposedRendition)
        .where(ProposedRendition.library_id == library.id)
        .order_by(ProposedRendition.folder, ProposedRendition.path)
    )
    folders: dict[str, FolderProposal] = {}
    for row in rows:
        folder = folders.setdefault(row.folder, FolderProposal(folder=row.folder))
        folder.renditions += 1
        if len(folder.examples) < _SHOWN:
            folder.examples.append(ProposedView(path=row.path, original=row.original))
    _add_others(session, library.id, folders)
    _add_numbers(session, library.id, [one for folder in folders.values() for one in folder.examples])
    return sorted(folders.values(), key=lambda folder: (-folder.renditions, folder.folder))


def answer_proposal(session: Session, library: Library, answer: ProposalAnswer) -> None:
    """Takes a folder's proposals as if the site had said so, or forgets them. Raises :class:`Refusal`
    ``not-found``."""
    ours = ProposedRendition.library_id == library.id, ProposedRendition.folder == answer.folder
    rows = session.scalars(select(ProposedRendition).where(*ours)).all()
    if not rows:
        raise Refusal("not-found", f"nothing is proposed for the folder {answer.folder or library.name}")
    if answer.accept:
        said = [MappedRendition(path=row.path, original=row.original, made_by=_MADE_BY) for row in rows]
        for start in range(0, len(said), _MOST_AT_ONCE):
            note_renditions(session, library, said[start : start + _MOST_AT_ONCE])
    session.execute(delete(ProposedRendition).where(*ours))


def _add_others(session: Session, library_id: int, folders: dict[str, FolderProposal]) -> None:
    """How many other files of each folder count as originals: a folder of renditions has few."""
    counts = session.execute(
        select(File.folder, func.count())
        .where(*counted_as_originals(library_id), File.folder.in_(folders))
        .group_by(File.folder)
    )
    for folder, count in counts:
        folders[folder].others = max(0, count - folders[folder].renditions)


def _add_numbers(session: Session, library_id: int, examples: list[ProposedView]) -> None:
    paths = {path for one in examples for path in (one.path, one.original)}
    numbers = dict(
        session.execute(
            select(File.path, File.id).where(
                File.library_id == library_id, File.path.in_(paths), File.state != FileState.GONE
            )
        ).all()
    )
    for one in examples:
        one.file_id, one.original_id = numbers.get(one.path), numbers.get(one.original)


def counted_as_originals(library_id: int) -> tuple[ColumnElement[bool], ...]:
    """The pictures of which no original is known."""
    return (
        File.library_id == library_id,
        File.role == FileRole.ORIGINAL,
        File.state != FileState.GONE,
        File.size_name.is_(None),
        File.format.is_not(None),
    )
