"""Connecting a folder tree as a library, changing its settings, and disconnecting it."""

from __future__ import annotations

import os
import re
import unicodedata
from datetime import UTC, datetime
from pathlib import Path

from croniter import CroniterError, croniter
from sqlalchemy import delete, func, or_, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from plumcrate.contract.automation import Automation
from plumcrate.contract.delivery import Delivery
from plumcrate.contract.libraries import LibraryChange, LibraryRequest
from plumcrate.contract.pictures import FileState
from plumcrate.contract.recipes import RecipeSettings
from plumcrate.contract.runs import ItemState, RunState
from plumcrate.jobs.long_work import OPEN
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.state import StateFolder
from plumcrate.queue.locks import CONNECT_LOCK, RUNS_LOCK
from plumcrate.records.queries.libraries import new_library
from plumcrate.records.tables import Backup, Derived, File, Item, Job, Journal, LeftStore, Library, Run
from plumcrate.refusal import Refusal
from plumcrate.runs.runs import automation_of
from plumcrate.storage.errors import StorageError
from plumcrate.storage.grouping import USUAL_PATTERNS, PatternError, compile_pattern
from plumcrate.storage.names import shown

#: What tells the folder of a site's own program from one of its media.
_PROGRAMS = (
    "index.php",
    "wp-config.php",
    "wp-load.php",
    "manage.py",
    "wsgi.py",
    "app.py",
    "config.php",
    "web.config",
    "composer.json",
    "package.json",
    "Gemfile",
    "go.mod",
    ".env",
    ".git",
)


def connect(session: Session, request: LibraryRequest, state_dir: Path, by: str) -> Library:
    """A new library. Nothing in its folder is touched. Raises :class:`Refusal`."""
    # One at a time, so that no two overlap.
    session.execute(select(func.pg_advisory_xact_lock(CONNECT_LOCK, 1)))
    root = checked_root(session, request.root, state_dir)
    slug = request.slug or slug_of(request.name)
    if session.scalar(select(Library.id).where(Library.slug == slug)):
        raise Refusal("slug-taken", f"another library is called {slug}; give another short name")
    settings = RecipeSettings(level=request.level, copies=request.copies, metadata=request.metadata)
    patterns = _checked_patterns(request.patterns)
    return new_library(session, slug, request.name.strip(), str(root), patterns, settings, by)


def change(session: Session, library: Library, request: LibraryChange) -> None:
    """New settings; what is left out stays as it is. Raises :class:`Refusal`."""
    if request.name is not None:
        library.name = request.name
    if request.patterns is not None:
        library.patterns = _checked_patterns(request.patterns)
    if request.automation is not None:
        _check_schedules(request.automation)
        changed = request.automation.model_dump(mode="json", exclude_unset=True)
        merged = Automation.model_validate(automation_of(library).model_dump(mode="json") | changed)
        library.automation = merged.model_dump(mode="json")
        library.next_survey_at = library.next_run_at = None  # reckoned anew by the feeder
    if request.delivery is not None:
        changed = request.delivery.model_dump(mode="json", exclude_unset=True)
        delivery = {
            name: {**library.delivery.get(name, {}), **value} if isinstance(value, dict) else value
            for name, value in changed.items()
        }
        library.delivery = Delivery.model_validate(library.delivery | delivery).model_dump(mode="json")
    session.flush()


def disconnect(session: Session, library: Library, state: StateFolder) -> None:
    """Forgets the records. Raises :class:`Refusal` while the library holds anything we made, and while
    anything is under way in it. Backups of files that were deleted stay on disk for a while."""
    # Whoever begins a change or a run of the library waits for this row, or was here first and is seen.
    session.execute(select(func.pg_advisory_xact_lock(RUNS_LOCK, library.id & 0x7FFFFFFF)))
    session.execute(select(Library.id).where(Library.id == library.id).with_for_update())
    _refuse_while_busy(session, library)
    treated = session.scalar(
        select(File.id)
        .where(File.library_id == library.id, File.state != FileState.GONE)
        .where(or_(File.before_sha256.is_not(None), File.size_name.is_not(None)))
        .limit(1)
    ) or session.scalar(select(Derived.id).where(Derived.library_id == library.id).limit(1))
    if treated:
        raise Refusal(
            "library-treated", "restore all its pictures first, so that every original is back in its place"
        )
    if library.identified_at is not None:
        try:
            Keeper.of(state.database, library, state).store.remove_identity()
        except StorageError as error:
            raise Refusal("storage", f"{error}: it cannot be left clean before it is back") from None
    if session.scalar(select(Backup.id).where(Backup.library_id == library.id).limit(1)):
        left = insert(LeftStore).values(slug=library.slug)
        session.execute(left.on_conflict_do_update(index_elements=["slug"], set_={"left_at": func.now()}))
    runs = select(Run.id).where(Run.library_id == library.id)
    session.execute(delete(Item).where(Item.run_id.in_(runs)))
    session.delete(library)


def _refuse_while_busy(session: Session, library: Library) -> None:
    runs = select(Run.id).where(Run.library_id == library.id)
    under_way = {
        "a change that is not settled": select(Journal.id).where(Journal.library_id == library.id),
        "a run": runs.where(Run.state.in_([RunState.RUNNING, RunState.PAUSED])),
        "a file in hand": select(Item.id).where(Item.run_id.in_(runs), Item.state == ItemState.WORKING),
    }
    for noun, query in under_way.items():
        if session.scalar(query.limit(1)) is not None:
            raise Refusal("library-busy", f"{noun} is under way in {library.name}: stop it, or wait for it")
    job = session.scalar(select(Job.kind).where(Job.library_id == library.id, Job.state.in_(OPEN)).limit(1))
    if job is not None:
        raise Refusal("library-busy", f"a {job} is under way in {library.name}: stop it, or wait for it")


def _check_schedules(automation: Automation) -> None:
    for schedule in (automation.survey_schedule, automation.run_schedule):
        if schedule is not None:
            refuse_odd_schedule(schedule)


def refuse_odd_schedule(schedule: str) -> None:
    """Raises :class:`Refusal` for what is no schedule, or one whose time never comes."""
    if not _comes(schedule):
        raise Refusal(
            "invalid-request",
            f"{schedule!r} is no schedule: give minute, hour, day, month and weekday, such as 30 2 * * *",
        )


def _comes(schedule: str) -> bool:
    """Whether a schedule is one, and its time ever comes: 30 February does not."""
    if len(schedule) > 200 or len(schedule.split()) != 5:
        return False
    try:
        croniter(schedule, datetime.now(UTC)).get_next(datetime)
    except (CroniterError, ValueError, ArithmeticError):
        return False
    return True


def _checked_patterns(patterns: list[str] | None) -> list[str]:
    if patterns is None:
        return list(USUAL_PATTERNS)
    try:
        for pattern in patterns:
            compile_pattern(pattern)
    except PatternError as error:
        raise Refusal("invalid-request", str(error)) from None
    return patterns


def checked_root(session: Session, given: str, state_dir: Path) -> Path:
    """A folder as it really is, when it can be a library. Raises :class:`Refusal`."""
    path = Path(given)
    if not path.is_absolute():
        raise Refusal("invalid-request", "give the folder's absolute path, as the service sees it")
    try:
        root = Path(os.path.realpath(path))
    except (OSError, ValueError):
        raise Refusal("folder-missing", f"{shown(given)} cannot be a folder") from None
    try:
        there = root.is_dir()
    except (OSError, ValueError):
        there = False
    if not there:
        raise Refusal("folder-missing", f"there is no folder {shown(given)} on the service's machine")
    if not os.access(root, os.R_OK | os.X_OK):
        raise Refusal("folder-unreadable", f"the service may not read {given}: check its owner and mode")
    program = next((name for name in _PROGRAMS if (root / name).exists()), None)
    if program is not None:
        raise Refusal(
            "site-root",
            f"{given} holds {program}, so it is the site itself and not its pictures: connect the folder "
            "below it that pictures are uploaded to, or several folders as several libraries",
        )
    if not os.access(root, os.W_OK):
        raise Refusal("folder-read-only", f"the service may not write {given}: check its owner and mode")
    state = Path(os.path.realpath(state_dir))
    if state.is_relative_to(root) or root.is_relative_to(state):
        raise Refusal("library-overlaps", "the folder and the service's own state folder must not overlap")
    for connected in session.scalars(select(Library)):
        if root.is_relative_to(connected.root) or Path(connected.root).is_relative_to(root):
            raise Refusal(
                "library-overlaps",
                f"{given} and the library {connected.name} ({connected.root}) share files; "
                "a file may belong to one library only",
            )
    return root


def slug_of(name: str) -> str:
    """The short name made of a name."""
    plain = unicodedata.normalize("NFKD", name).encode("ascii", "ignore").decode().lower()
    return re.sub(r"[^a-z0-9]+", "-", plain).strip("-")[:60].strip("-") or "library"
