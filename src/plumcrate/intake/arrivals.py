"""Taking in files one by one as they arrive: told by the watcher, a webhook, or an upload.

What is told is a row for each path, so that a burst of thousands becomes one, and a restart forgets
nothing. A path is looked at when its size and time have not changed for the library's settling time, or at
once when who told says that it is written to its end. The reconciler says what became of it. What we wrote
ourselves is as the records say, and so is not taken in again.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from datetime import timedelta

from sqlalchemy import delete, func, or_, select, tuple_
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from plumcrate.contract.automation import NewFiles
from plumcrate.keeping.changes import ChangeNote
from plumcrate.keeping.keeper import Keeper
from plumcrate.queue.locks import PATH_LOCK, path_key
from plumcrate.records.database import Database, notify
from plumcrate.records.tables import Arrival, Backup, File, Library
from plumcrate.refusal import Refusal
from plumcrate.runs.runs import automation_of, take_in
from plumcrate.storage.errors import NotThere, StorageError
from plumcrate.storage.names import fault_of, fault_of_new, shown

from .headers import is_picture
from .reconciling import Reconciler, known_in

_MOST = 5_000


@dataclass(slots=True)
class IntakeRound:
    """What a round of intake found. ``pictures`` of new and changed files; ``runs`` started for them.

    ``busy`` paths belong to pictures that a run is at; they are looked at again.
    """

    pictures: list[int] = field(default_factory=list)
    gone: int = 0
    moved: int = 0
    runs: list[int] = field(default_factory=list)
    busy: dict[str, NewFiles] = field(default_factory=dict)


def note_arrivals(
    session: Session,
    library: Library,
    paths: Iterable[str],
    mode: NewFiles | None = None,
    *,
    whole: bool = False,
) -> int:
    """Notes that something happened at some paths; returns how many could be noted. ``whole``: what stands
    there is written to its end, and need not settle."""
    chosen = str(mode or automation_of(library).new_files)
    fit = sorted({path for path in paths if fault_of(path) is None})
    rows = [{"library_id": library.id, "path": path, "mode": chosen, "whole": whole} for path in fit]
    for start in range(0, len(rows), 2000):
        statement = insert(Arrival).values(rows[start : start + 2000])
        session.execute(
            statement.on_conflict_do_update(
                index_elements=["library_id", "path"],
                set_={
                    "changed_at": func.now(),
                    "mode": statement.excluded.mode,
                    "size": None,
                    "whole": or_(Arrival.whole, statement.excluded.whole),
                },
            )
        )
    if rows:
        notify(session, arrivals=library.id)
    return len(rows)


def take_in_settled(database: Database, keeper: Keeper, library: Library) -> IntakeRound:
    """Looks at the paths that have settled; the caller holds the library's intake lock.

    Raises NotThere: then nothing is concluded, and the paths wait.
    """
    with keeper.store.visit():
        return _take_in_settled(database, keeper, library)


def _take_in_settled(database: Database, keeper: Keeper, library: Library) -> IntakeRound:
    automation = automation_of(library)
    with database.begin() as session:
        due = Arrival.changed_at < func.now() - timedelta(seconds=automation.settle_seconds)
        rows = list(
            session.scalars(
                select(Arrival)
                .where(Arrival.library_id == library.id, (Arrival.size.is_(None)) | due)
                .order_by(Arrival.changed_at)
                .limit(_MOST)
            )
        )
        settled: list[Arrival] = []
        for row in rows:
            size, mtime_ns = _facts(keeper, row.path)
            if row.whole or (row.size, row.mtime_ns) == (size, mtime_ns):
                settled.append(row)
            else:  # just told, or still being written
                row.size, row.mtime_ns, row.changed_at = size, mtime_ns, func.now()
    taken = IntakeRound()
    for mode in NewFiles:
        paths = [row.path for row in settled if row.mode == mode]
        if paths:
            _take(database, keeper, library, paths, mode, taken)
    with database.begin() as session:
        for start in range(0, len(settled), 1000):
            done = [(row.path, row.changed_at) for row in settled[start : start + 1000]]
            session.execute(
                delete(Arrival).where(
                    Arrival.library_id == library.id, tuple_(Arrival.path, Arrival.changed_at).in_(done)
                )
            )
        for path, mode in taken.busy.items():
            note_arrivals(session, library, [path], mode)
    return taken


def take_in_now(
    database: Database, keeper: Keeper, library: Library, path: str, mode: NewFiles
) -> IntakeRound:
    """Takes one file in that is known to be whole."""
    taken = IntakeRound()
    _take(database, keeper, library, [path], mode, taken)
    if taken.busy:  # a run is at the picture just now
        with database.begin() as session:
            note_arrivals(session, library, [path], mode)
    return taken


def _facts(keeper: Keeper, path: str) -> tuple[int, int]:
    """Size and time of a path; -1 when nothing that we treat is there."""
    try:
        facts = keeper.store.facts(path)
    except NotThere:
        raise
    except StorageError:
        return (-1, -1)
    return facts.size, facts.mtime_ns


def _take(
    database: Database,
    keeper: Keeper,
    library: Library,
    paths: list[str],
    mode: NewFiles,
    taken: IntakeRound,
) -> None:
    with database.begin() as session:
        paths = _with_folders(session, keeper, library, paths)
    findings = Reconciler(database, keeper, library).look(dict.fromkeys(paths))
    taken.busy |= dict.fromkeys(findings.busy, mode)
    taken.gone += findings.gone
    taken.moved += findings.moved
    if not findings.anew:
        return
    with database.begin() as session:
        ids = list(
            session.scalars(
                select(File.picture_id)
                .where(File.library_id == library.id, File.path.in_(findings.anew))
                .distinct()
            )
        )
        taken.pictures += ids
        current = session.get_one(Library, library.id)
        if mode is not NewFiles.BY_HAND and not current.dormant:
            taken.runs.append(take_in(session, current, ids, mode is NewFiles.AT_ONCE).id)


def _with_folders(session: Session, keeper: Keeper, library: Library, paths: list[str]) -> list[str]:
    """The paths, with what is in those that are folders, or were."""
    within = {path for path in paths if is_picture(path)}
    for path in set(paths) - within:
        if any(part.startswith(".") for part in path.split("/")):
            continue
        for _, listing in keeper.store.walk(path):
            within |= {entry.path for entry in listing.files if is_picture(entry.path)}
        within |= set(known_in(session, library.id, path))
    return sorted(within)


def put_orphan_back(keeper: Keeper, library: Library, row: Backup, path: str | None, by: str) -> str:
    """Puts a backup that lost its file under its former path, or another that is free; which it is.

    Raises :class:`Refusal` and StorageError.
    """
    path = path or row.path
    check_name(path)
    with keeper.database.advisory_lock(PATH_LOCK, path_key(library.id, path)) as free:
        if not free:
            raise Refusal("name-taken", f"something is being written to {path} just now")
        keeper.put_back_as(row.sha256, path, ChangeNote(detail={"by": by}))
    with keeper.database.begin() as session:
        note_arrivals(session, session.get_one(Library, library.id), [path], NewFiles.BY_HAND)
    return path


def check_name(path: str) -> None:
    """Raises :class:`Refusal` when a new file cannot have a path."""
    fault = fault_of_new(path)
    if fault is None and not is_picture(path):
        fault = "does not end as pictures do"
    if fault is not None:
        raise Refusal("invalid-request", f"the name {shown(path)} {fault}")
