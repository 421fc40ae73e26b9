"""Checking the machine: everything fine, or exactly what to do. One function a line of the check."""

from __future__ import annotations

import os
import platform
import secrets
import shutil
import time
from collections.abc import Iterable, Iterator, Mapping
from datetime import timedelta
from pathlib import Path

from sqlalchemy import ColumnElement, func, select, text
from sqlalchemy.exc import SQLAlchemyError
from sqlalchemy.orm import Session

from plumcrate import __version__
from plumcrate.contract.care import Advice, Machine
from plumcrate.imaging.formats import COPIES, FORMATS
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.state import StateFolder
from plumcrate.pages.process import find_browser
from plumcrate.records.database import Database
from plumcrate.records.queries.workers import SILENT_AFTER
from plumcrate.records.tables import Backup, File, Library, WorkerRow
from plumcrate.runs.runs import automation_of
from plumcrate.sandbox.kernels import compiled
from plumcrate.storage.errors import StorageError
from plumcrate.storage.store import Store, Writers

_OLDEST_POSTGRES = 140000
_LITTLE_SPACE = 2_000_000_000
_ORDER = ("fine", "warning", "broken")


def examine(
    state: StateFolder, database: Database, holds: Mapping[str, bool], browser: str | None = None
) -> Machine:
    """Looks at everything that treating needs. Writes only hidden files in each library, and removes them.

    ``holds``: what shuts in the child processes, see :func:`.containment.shut_in`; ``browser``: where
    Chromium is said to be.
    """
    lines = [*_codecs(), *_kernels(), *_browser(browser), *_containment(holds)]
    try:
        lines += _state_folder(state)
        with database.begin() as session:
            lines += [*_database(session), *_clock(session), *_workers(session), *_loops(session)]
            for library in session.scalars(select(Library).order_by(Library.name)):
                lines += _library(session, state, library)
    except SQLAlchemyError as error:
        reason = str(getattr(error, "orig", error)).splitlines()[0]
        lines.append(
            Advice(
                what="database", verdict="broken", detail=reason, todo="start PostgreSQL, or mend the address"
            )
        )
    worst = max((line.verdict for line in lines), key=_ORDER.index)
    return Machine(verdict=worst, lines=lines)


def examine_before(
    state_dir: Path, holds: Mapping[str, bool], browser: str | None, more: Iterable[Advice]
) -> Machine:
    """Looks at what there is before anything runs: no records are asked, and no library."""
    lines = [*_codecs(), *_kernels(), *_browser(browser), *_containment(holds), *_place(state_dir), *more]
    return Machine(verdict=max((line.verdict for line in lines), key=_ORDER.index), lines=lines)


def examine_libraries(state: StateFolder, database: Database, condition: ColumnElement[bool]) -> Machine:
    """Looks at what some libraries need: the formats, and each library of which the condition holds."""
    lines = list(_codecs())
    with database.begin() as session:
        for library in session.scalars(select(Library).where(condition).order_by(Library.name)):
            lines += _library(session, state, library)
    return Machine(verdict=max((line.verdict for line in lines), key=_ORDER.index), lines=lines)


def _codecs() -> Iterator[Advice]:
    from PIL import features  # when somebody asks, and not with the service

    yield Advice(what="JPEG, PNG, GIF", verdict="fine", detail="read and written by our own code")
    for name in COPIES:
        label = FORMATS[name].label
        if features.check(name):
            version = features.version(name) or "present"
            yield Advice(what=label, verdict="fine", detail=f"version {version}")
        else:
            yield Advice(
                what=label,
                verdict="warning",
                detail=f"Pillow was built without it: no {label} copies",
                todo="install Pillow from the package index, whose wheels carry it",
            )
    if not features.check("littlecms2"):
        yield Advice(
            what="colour management",
            verdict="warning",
            detail="CMYK pictures get no copies with right colours",
            todo="install Pillow from the package index, whose wheels carry LittleCMS",
        )


def _browser(settings_browser: str | None) -> Iterator[Advice]:
    """Whether pages can be weighed in a browser here."""
    place = find_browser(settings_browser)
    if place is not None:
        yield Advice(what="browser", verdict="fine", detail=f"{place}: pages are weighed in it")
        return
    yield Advice(
        what="browser",
        verdict="warning",
        detail="Chromium is not there: pages are weighed from their markup alone, without times",
        todo="install it (on Debian: chromium), or set PLUMCRATE_BROWSER",
    )


def _kernels() -> Iterator[Advice]:
    detail = f"{platform.python_version()} on {platform.machine()}, Plum Crate {__version__}"
    yield Advice(what="Python", verdict="fine", detail=detail)
    if not compiled():
        yield Advice(
            what="kernels",
            verdict="warning",
            detail="the picture kernels are being compiled for this machine; until then pictures take longer",
            todo="wait some minutes: this happens once, after an installation or an upgrade",
        )


def _state_folder(state: StateFolder) -> Iterator[Advice]:
    try:
        state.check()
    except StorageError as error:
        yield Advice(
            what="backup store",
            verdict="broken",
            detail=str(error),
            todo="mount the right volume, or set PLUMCRATE_STATE_DIR",
        )
        return
    yield from _place(state.path)


def _place(place: Path) -> Iterator[Advice]:
    """Whether there is a folder for the state, with room."""
    try:
        place.mkdir(parents=True, exist_ok=True)
        probe = place / f".probe-{secrets.token_hex(4)}"
        probe.write_bytes(b"")
        probe.unlink()
        usage = shutil.disk_usage(place)
    except OSError as error:
        yield Advice(
            what="backup store",
            verdict="broken",
            detail=f"{place} cannot be written ({error.strerror})",
            todo="give the service's user the folder, or set PLUMCRATE_STATE_DIR",
        )
        return
    detail = f"{place}: {usage.free / 1e9:.1f} GB free of {usage.total / 1e9:.1f} GB"
    if usage.free < _LITTLE_SPACE:
        yield Advice(
            what="backup store",
            verdict="warning",
            detail=detail,
            todo="free some space, or delete old backups",
        )
    else:
        yield Advice(what="backup store", verdict="fine", detail=detail)


#: What shuts children in, in plain words, and what to do where it is missing.
_CONTAINMENT = {
    "privileges": ("no new privileges", "use a kernel newer than 3.5"),
    "network": ("no network", "allow name spaces or install libseccomp2"),
    "files": ("no files", "use a kernel with Landlock (5.13 or newer)"),
    "calls": ("few system calls", "install libseccomp2"),
    "user": ("a user without rights", "start the service as a user of its own"),
}


def _containment(holds: Mapping[str, bool]) -> Iterator[Advice]:
    """Whether pictures are decoded by processes that can do no harm."""
    if not holds:
        yield Advice(
            what="containment",
            verdict="broken",
            detail="no child process could be started",
            todo="look into the service's log",
        )
        return
    held = ", ".join(words for name, (words, _) in _CONTAINMENT.items() if holds.get(name))
    missing = [(words, todo) for name, (words, todo) in _CONTAINMENT.items() if not holds.get(name)]
    detail = f"pictures are decoded in processes of their own: {held or 'not shut in'}"
    if missing:
        detail += f". Missing: {', '.join(words for words, _ in missing)}"
        todo = "; ".join(dict.fromkeys(todo for _, todo in missing))
        yield Advice(what="containment", verdict="warning", detail=detail, todo=todo)
    else:
        yield Advice(what="containment", verdict="fine", detail=detail)


def _database(session: Session) -> Iterator[Advice]:
    began = time.perf_counter()
    number = int(session.execute(text("SHOW server_version_num")).scalar_one())
    took = (time.perf_counter() - began) * 1000
    version = session.execute(text("SHOW server_version")).scalar_one()
    detail = f"PostgreSQL {version}, answers in {took:.1f} ms"
    if number < _OLDEST_POSTGRES:
        yield Advice(
            what="database", verdict="warning", detail=detail, todo="version 14 or newer is supported"
        )
    else:
        yield Advice(what="database", verdict="fine", detail=detail)
    synced = session.execute(text("SHOW synchronous_commit")).scalar_one()
    fsync = session.execute(text("SHOW fsync")).scalar_one()
    if fsync != "on" or synced == "off":
        yield Advice(
            what="durability",
            verdict="warning",
            detail=f"fsync is {fsync}, synchronous_commit is {synced}: a power cut may lose records",
            todo="set both on in postgresql.conf",
        )


def _clock(session: Session) -> Iterator[Advice]:
    theirs = float(session.execute(text("SELECT extract(epoch FROM clock_timestamp())")).scalar_one())
    apart = abs(time.time() - theirs)
    if apart > 5:
        yield Advice(
            what="clock",
            verdict="warning",
            detail=f"the service's and the database's clocks are {apart:.0f} s apart: schedules, ages of "
            "backups and signed webhooks go by them",
            todo="set both by network time",
        )
    else:
        yield Advice(what="clock", verdict="fine", detail=f"{apart * 1000:.0f} ms from the database's")


def _loops(session: Session) -> Iterator[Advice]:
    """What workers do again and again, where it fails."""
    alive = WorkerRow.heard_at > func.now() - timedelta(seconds=SILENT_AFTER)
    for row in session.scalars(select(WorkerRow).where(alive)):
        for name, report in row.loops.items():
            if report.get("failures"):
                yield Advice(
                    what=f"worker {row.host}: {name}",
                    verdict="warning",
                    detail=f"failed {report['failures']:,} times in a row: {report.get('said')}",
                    todo="the worker tries it again by itself; its log says more",
                )


def _workers(session: Session) -> Iterator[Advice]:
    rows = session.scalars(
        select(WorkerRow).where(WorkerRow.heard_at > func.now() - timedelta(seconds=SILENT_AFTER))
    ).all()
    if not rows:
        yield Advice(
            what="workers",
            verdict="broken",
            detail="none is alive: surveys and runs wait",
            todo="start one: plumcrate start --only worker",
        )
        return
    names = ", ".join(f"{row.host} ({row.children} at a time)" for row in rows)
    versions = sorted({row.version for row in rows} - {__version__})
    if versions:
        yield Advice(
            what="workers",
            verdict="warning",
            detail=f"{names}; some are of version {versions[0]}, the service is {__version__}",
            todo="start them again after the update",
        )
    else:
        yield Advice(what="workers", verdict="fine", detail=names)


def _library(session: Session, state: StateFolder, library: Library) -> Iterator[Advice]:
    what = f"library {library.slug}"
    keeper = Keeper.of(state.database, library, state)
    try:
        with keeper.store.visit():
            exchanged, tells = _try_out(keeper.store)
            free = keeper.store.room()
    except StorageError as error:
        todo = "give the service's user the right to write there"
        if error.code == "not-there":
            todo = f"mount it. If this is the right folder, say so: plumcrate reattach {library.slug}"
        yield Advice(what=what, verdict="broken", detail=str(error), todo=todo)
        return
    owned = _owner_can_be_kept(session, library, keeper)
    detail = (
        f"{library.root}: files can be {'exchanged' if exchanged else 'replaced'} at once, "
        f"{free / 1e9:.1f} GB free"
    )
    if not exchanged:
        yield Advice(
            what=what,
            verdict="warning",
            detail=f"{detail}; this file system cannot exchange two names, so changes are made by replacing",
            todo="nothing; a file system such as ext4, XFS or Btrfs is safer still",
        )
    elif not tells:
        yield Advice(
            what=what,
            verdict="warning",
            detail=f"{detail}; the system does not tell who has a file open, so replaced files are kept for "
            "half a minute and looked at again",
            todo="run the worker as the files' owner, or as root; on network file systems nothing",
        )
    elif free < _LITTLE_SPACE:
        yield Advice(what=what, verdict="warning", detail=detail, todo="free some space for copies")
    elif not owned:
        yield Advice(
            what=what,
            verdict="warning",
            detail=f"{detail}; its files belong to another user, and treated files would belong to ours",
            todo="run the worker as their owner, or as root",
        )
    else:
        yield Advice(what=what, verdict="fine", detail=detail)
    yield from _store(session, library)
    yield from _watches(library, session)


def _try_out(store: Store) -> tuple[bool, bool]:
    """Whether two names can be exchanged at once, and whether the system tells who has a file open.

    Raises StorageError when nothing can be written.
    """
    first, second = store.spare_name("x"), store.spare_name("x")
    store.stage(first, b"first")
    try:
        store.stage(second, b"second")
        exchanged = store.can_exchange(first, second)
        return exchanged, store.writers(first) is Writers.NONE
    finally:
        store.discard(first)
        store.discard(second)


def _owner_can_be_kept(session: Session, library: Library, keeper: Keeper) -> bool:
    if os.geteuid() == 0:
        return True
    path = session.scalar(select(File.path).where(File.library_id == library.id).limit(1))
    try:
        return path is None or keeper.store.facts(path).owner == os.geteuid()
    except StorageError:
        return True


def _store(session: Session, library: Library) -> Iterator[Advice]:
    automation = automation_of(library)
    held = int(
        session.scalar(select(func.coalesce(func.sum(Backup.size), 0)).where(Backup.library_id == library.id))
        or 0
    )
    if not automation.backups:
        yield Advice(
            what=f"backups of {library.slug}",
            verdict="warning",
            detail="off: nothing that is not exact can be undone or made again",
            todo="turn them on in the library's settings",
        )
    elif automation.backups_limit is not None and held > automation.backups_limit * 0.9:
        yield Advice(
            what=f"backups of {library.slug}",
            verdict="warning",
            detail=f"{held / 1e9:.2f} GB of a limit of {automation.backups_limit / 1e9:.2f} GB",
            todo="raise the limit, or delete old backups",
        )
    else:
        yield Advice(what=f"backups of {library.slug}", verdict="fine", detail=f"{held / 1e6:,.1f} MB")


def _watches(library: Library, session: Session) -> Iterator[Advice]:
    limit_file = Path("/proc/sys/fs/inotify/max_user_watches")
    if not automation_of(library).watch or not limit_file.exists():
        return
    limit = int(limit_file.read_text())
    query = select(func.count(File.folder.distinct())).where(File.library_id == library.id)
    folders = session.scalar(query) or 0
    if folders > limit * 0.8:
        yield Advice(
            what=f"watching {library.slug}",
            verdict="warning",
            detail=f"{folders:,} folders of {limit:,} that the system lets be watched",
            todo="raise fs.inotify.max_user_watches, or survey by schedule instead",
        )
    else:
        yield Advice(what=f"watching {library.slug}", verdict="fine", detail=f"{folders:,} folders")
