"""Taking in files one by one as they arrive: told by the watcher, a webhook, or an upload.

What is told is a row for each path, so that a burst of thousands becomes one, and a restart forgets
nothing. A path is looked at when its size and time have not changed for the library's settling time.
What we wrote ourselves is as the records say, and so is not taken in again.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from datetime import timedelta
from typing import Any

from sqlalchemy import delete, func, select, tuple_, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from plumcrate.contract import FileState, NewFiles
from plumcrate.keeping.keeper import Keeper
from plumcrate.records.database import Database
from plumcrate.records.tables import Arrival, Copy, File, Journal, Library
from plumcrate.storage.folder import Entry, StorageError

from .decision import below
from .families import reach, settle_families
from .locks import PICTURE_LOCK
from .runs import take_in, upkeep_of
from .survey import DELETED, ENDINGS, Busy, Change, Known, identified, known_files, look_at

_MOST = 5_000


@dataclass(slots=True)
class Taken:
    """What a round of intake found. ``pictures`` of new and changed files; ``runs`` started for them.

    ``busy`` paths belong to pictures that a run is at; they are looked at again.
    """

    pictures: list[int] = field(default_factory=list)
    gone: int = 0
    runs: list[int] = field(default_factory=list)
    busy: dict[str, NewFiles] = field(default_factory=dict)


def is_picture(path: str) -> bool:
    """Whether a path is that of a picture that a library holds, by its name."""
    name = path.rpartition("/")[2]
    hidden = any(part.startswith(".") for part in path.split("/"))
    return not hidden and "." in name and "." + name.rpartition(".")[2].lower() in ENDINGS


def tell(session: Session, library: Library, paths: Iterable[str], mode: NewFiles | None = None) -> int:
    """Notes that something happened at some paths; returns how many are pictures' or folders' names."""
    chosen = str(mode or upkeep_of(library).new_files)
    rows = [{"library_id": library.id, "path": path, "mode": chosen} for path in sorted(set(paths))]
    for start in range(0, len(rows), 2000):
        statement = insert(Arrival).values(rows[start : start + 2000])
        session.execute(
            statement.on_conflict_do_update(
                index_elements=["library_id", "path"],
                set_={"changed_at": func.now(), "mode": statement.excluded.mode, "size": None},
            )
        )
    return len(rows)


def take_in_settled(database: Database, keeper: Keeper, library: Library, max_megapixels: float) -> Taken:
    """Looks at the paths that have settled; the caller holds the library's intake lock."""
    upkeep = upkeep_of(library)
    with database.begin() as session:
        due = Arrival.changed_at < func.now() - timedelta(seconds=upkeep.settle_seconds)
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
            if (row.size, row.mtime_ns) == (size, mtime_ns):
                settled.append(row)
            else:  # just told, or still being written
                row.size, row.mtime_ns, row.changed_at = size, mtime_ns, func.now()
    taken = Taken()
    for mode in NewFiles:
        paths = [row.path for row in settled if row.mode == mode]
        if paths:
            _take(database, keeper, library, paths, mode, max_megapixels, taken)
    with database.begin() as session:
        for start in range(0, len(settled), 1000):
            done = [(row.path, row.changed_at) for row in settled[start : start + 1000]]
            session.execute(
                delete(Arrival).where(
                    Arrival.library_id == library.id, tuple_(Arrival.path, Arrival.changed_at).in_(done)
                )
            )
        for path, mode in taken.busy.items():
            tell(session, library, [path], mode)
    return taken


def take_in_now(
    database: Database, keeper: Keeper, library: Library, path: str, mode: NewFiles, max_megapixels: float
) -> Taken:
    """Takes one file in that is known to be whole."""
    taken = Taken()
    _take(database, keeper, library, [path], mode, max_megapixels, taken)
    return taken


def _facts(keeper: Keeper, path: str) -> tuple[int, int]:
    """Size and time of a path; -1 when nothing that we treat is there."""
    try:
        facts = keeper.folder.stat(path)
    except StorageError:
        return (-1, -1)
    return facts.st_size, facts.st_mtime_ns


def _take(
    database: Database,
    keeper: Keeper,
    library: Library,
    paths: list[str],
    mode: NewFiles,
    max_megapixels: float,
    taken: Taken,
) -> None:
    with database.begin() as session:
        paths = _with_folders(session, keeper, library, paths)
        known = known_files(session, library.id, File.path.in_(paths))
        copies = set(
            session.scalars(select(Copy.path).where(Copy.library_id == library.id, Copy.path.in_(paths)))
        )
        changing = set(
            session.scalars(
                select(Journal.path).where(Journal.library_id == library.id, Journal.path.in_(paths))
            )
        )
    arrivals: list[dict[str, Any]] = []
    changes: list[Change] = []
    gone: list[int] = []
    touched: set[int] = set()
    anew: list[str] = []
    for path in paths:
        record = known.get(path)
        size, mtime_ns = _facts(keeper, path)
        if path in changing:  # ours, and about to be recorded
            taken.busy[path] = mode
        elif size < 0:
            if record is None or record.state in (FileState.GONE, FileState.REMOVED):
                continue
            if _drop_copies(database, keeper, record):
                gone.append(record.id)
                touched.add(record.picture_id)
            else:
                taken.busy[path] = mode
        elif path in copies or not is_picture(path):
            continue
        elif record is None:
            arrivals.append(identified(keeper.folder, Entry(path, size, mtime_ns)))
            anew.append(path)
        else:
            try:
                change = look_at(database, keeper, Entry(path, size, mtime_ns), record)
            except Busy:
                taken.busy[path] = mode
                continue
            if change is not None:
                changes.append(change)
                touched.add(record.picture_id)
                if change.anew:
                    anew.append(path)
    taken.gone += len(gone)
    if not (arrivals or changes or gone):
        return
    with database.begin() as session:
        for change in changes:
            change.apply(session)
        if gone:
            session.execute(update(File).where(File.id.in_(gone)).values(state=FileState.GONE))
        folders = _folders_about(session, library, {path.rpartition("/")[0] for path in paths})
        settle_families(session, library.id, library.patterns, folders, arrivals, touched)
        if not anew:
            return
        ids = list(
            session.scalars(
                select(File.picture_id).where(File.library_id == library.id, File.path.in_(anew)).distinct()
            )
        )
        taken.pictures += ids
        if mode is not NewFiles.BY_HAND:
            library = session.merge(library, load=False)
            taken.runs.append(take_in(session, library, ids, mode is NewFiles.AT_ONCE, max_megapixels).id)


def _with_folders(session: Session, keeper: Keeper, library: Library, paths: list[str]) -> list[str]:
    """The paths, with what is in those that are folders, or were."""
    found = [path for path in paths if is_picture(path)]
    for path in set(paths) - set(found):
        if path.rpartition("/")[2].startswith("."):
            continue
        if (keeper.folder.root / path).is_dir():
            found += [entry.path for entry in keeper.folder.walk(path) if isinstance(entry, Entry)]
        else:
            found += session.scalars(
                select(File.path).where(
                    File.library_id == library.id, below(File.folder, path), File.state != FileState.GONE
                )
            )
    return sorted(set(found))


def _folders_about(session: Session, library: Library, folders: set[str]) -> set[str]:
    """Folders, with those below them in which renditions of their files may lie."""
    levels = reach(library.patterns)
    if not levels:
        return folders
    found = set(folders)
    for folder in session.scalars(select(File.folder).where(File.library_id == library.id).distinct()):
        parent = folder
        for _ in range(levels):
            if not parent:
                break
            parent = parent.rpartition("/")[0]
            if parent in folders:
                found.add(folder)
    return found


def _drop_copies(database: Database, keeper: Keeper, known: Known) -> bool:
    """The copies of a file that somebody deleted go too; its backup stays for its term.

    False when a run is at the picture, and may be writing copies.
    """
    with database.advisory_lock(PICTURE_LOCK, known.picture_id) as free:
        if free:
            with database.begin() as session:
                file = session.get_one(File, known.id)
            keeper.drop_copies(file, DELETED)
        return free
