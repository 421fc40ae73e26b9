"""What the jobs do: survey a library, treat or restore a picture's files, one picture one lock."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from typing import Any

import structlog
from pydantic import BaseModel
from sqlalchemy import func, literal, or_, select, union
from sqlalchemy.orm import Session

from plumcrate.contract import (
    FileState,
    ForecastReport,
    ItemState,
    JobKind,
    NewFiles,
    ProofRequest,
    RecipeSettings,
    RunKind,
    RunOrigin,
    RunRequest,
    RunState,
    Scope,
)
from plumcrate.imaging import ImagingError
from plumcrate.imaging.errors import LeftAlone, TooLarge
from plumcrate.keeping.changes import Note
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.prune import finish_pruning
from plumcrate.keeping.recovery import recover
from plumcrate.keeping.state import StateFolder
from plumcrate.records.database import Database, lost_connection, notify
from plumcrate.records.queries.runs import end_item
from plumcrate.records.queries.sums import refresh_pictures
from plumcrate.records.tables import Backup, File, Item, Journal, Library, Run
from plumcrate.settings import Settings
from plumcrate.storage.errors import NotThere, StorageError

from .allowance import count
from .decision import BEYOND
from .forecast import forecast
from .jobs import Follow, carry_out
from .locks import LIBRARY_LOCK, PATH_LOCK, PICTURE_LOCK, path_key
from .looking_after import check_library, prove_hand_back, prune_backups
from .previews import Previews
from .queue import BULK, NEW_UPLOAD, SINGLE_REQUEST
from .reporting import make_report
from .room import ROOM_SECONDS, Room
from .runs import MOST_ATTEMPTS, create_run, recipe_of, upkeep_of
from .sandbox import Sandbox, SandboxError, Sandboxes
from .shaping import shaped_recipe
from .survey import survey
from .treating import Order, Outcome, Stage, TooManyBytes, treat_file
from .weighing.job import Weighing, WeighOrder

log = structlog.get_logger()

#: Failures that pass by themselves, tried again after a while without anybody asking.
_TRANSIENT = frozenset(
    ("disk-full", "disk-error", "storage-error", "backup-missing", "backups-full", "in-use", "machine-busy")
) | {"change-open"}
#: A library or the state folder that is away is waited for, in so many seconds, however often.
_AWAY_SECONDS = 15.0
#: So many pictures are in the scope of one run.
_MOST_IN_SCOPE = 100_000
#: A change that has been open for so long, in seconds, was left by a process that died, or cannot be settled.
_LEFT_OPEN = 30
#: Failures that pass when somebody does something: the next run tries such a file again.
_PASSING = _TRANSIENT | {
    "no-permission", "read-only", "changed-outside", "stopped", "gone", "internal-error", "no-backup",
    "not-a-file", "symbolic-link", "folder-is-link", "child-died", "out-of-memory", "backup-damaged",
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class _Begun:
    """An item in hand, and what it is to be treated to; no order for a run that restores."""

    item: Item
    run: Run
    library: Library
    order: Order | None


class Engine:
    """Carries out jobs. One per worker process; its methods run in several threads at once."""

    def __init__(self, settings: Settings, database: Database, sandboxes: Sandboxes) -> None:
        self.settings = settings
        self.database = database
        self.sandboxes = sandboxes
        self.state = StateFolder(database, settings.state_dir)
        self.stopping = False
        self.room = Room(settings.state_dir)

    def keeper(self, library: Library) -> Keeper:
        """The keeper of a library's files."""
        return Keeper.of(self.database, library, self.state)

    def why_away(self, library: Library) -> str | None:
        """Why nothing can be done in a library now, in plain words; None when its folders are there and have
        room."""
        try:
            keeper = self.keeper(library)
            with keeper.store.visit():
                self.state.check()
        except StorageError as error:
            return str(error)
        return self.room.lacking(library)

    def recover_all(self, *, at_start: bool = False) -> bool:
        """Settles every change that a dead process left open, where its picture is not locked; whether any is
        open.

        While others work, only those that have been open for a while, or whose time has come.
        """
        pruned = select(Backup.library_id).where(Backup.pruned_at.is_not(None))
        unsettled = union(select(Journal.library_id), pruned)
        with self.database.begin() as session:
            libraries = list(session.scalars(select(Library).where(Library.id.in_(unsettled))))
        for library in libraries:
            try:
                self._recover(library, at_start=at_start)
            except StorageError as error:
                log.warning("recovery is waiting", library=library.slug, reason=str(error))
            except Exception as error:
                if lost_connection(error):
                    raise
                log.exception("recovery failed", library=library.slug)  # a library's fault is its own
        return bool(libraries)

    def _recover(self, library: Library, *, at_start: bool) -> None:
        keeper = self.keeper(library)
        old = Journal.opened_at < func.now() - timedelta(seconds=_LEFT_OPEN)
        ripe = func.coalesce(Journal.due_at <= func.now(), old)
        with self.database.begin() as session:
            rows = session.execute(
                select(Journal.id, Journal.path, File.picture_id)
                .outerjoin(File, File.id == Journal.file_id)
                .where(Journal.library_id == library.id, or_(ripe, literal(at_start)))
                .order_by(Journal.id)
            ).all()
            marked = session.scalar(
                select(func.count()).where(Backup.library_id == library.id, Backup.pruned_at.is_not(None))
            )
        if marked:
            finish_pruning(keeper)
        for entry_id, path, picture_id in rows:
            # An upload is no picture's yet.
            upload = PATH_LOCK, path_key(library.id, path)
            with self.database.advisory_lock(*((PICTURE_LOCK, picture_id) if picture_id else upload)) as free:
                if free:
                    outcome = recover(keeper, entry_id=entry_id)
                    if outcome.finished or outcome.undone:
                        log.info("recovered", library=library.slug, path=path, finished=outcome.finished)

    def run_job(self, job_id: int) -> None:
        """Carries out a survey, check, forecast, proof or pruning, unless it has ended already."""
        carry_out(
            self.database,
            job_id,
            {
                JobKind.SURVEY: self._survey,
                JobKind.CHECK: lambda library, follow: check_library(self.keeper(library), follow),
                JobKind.FORECAST: self._forecast,
                JobKind.PROOF: self._prove,
                JobKind.PRUNING: lambda library, follow: prune_backups(self.keeper(library), follow),
                JobKind.WEIGHING: self._weigh,
                JobKind.REPORT: self._report,
            },
        )

    def _survey(self, library: Library, follow: Follow) -> BaseModel:
        with self.database.advisory_lock(LIBRARY_LOCK, library.id) as free:
            if not free:
                raise StorageError("busy", f"{library.name} is being looked through already")
            arrived: dict[int, None] = {}

            def note(paths: list[str]) -> None:
                with self.database.begin() as session:
                    ours = File.library_id == library.id, File.path.in_(paths)
                    arrived.update(dict.fromkeys(session.scalars(select(File.picture_id).where(*ours))))

            # What a first look finds was there before us: it waits for a schedule, or a person.
            hears = note if library.surveyed_at is not None else lambda _: None
            report = survey(self.database, self.keeper(library), library, follow.tell, hears)
        with self.database.begin() as session:
            current = session.get_one(Library, library.id)
            if arrived and upkeep_of(current).new_files is not NewFiles.BY_HAND and not current.at_rest:
                self._treat_arrivals(session, current, list(arrived))
        return report

    def _treat_arrivals(self, session: Session, library: Library, pictures: list[int]) -> None:
        """Just what is new or changed, in the background."""
        for start in range(0, len(pictures), _MOST_IN_SCOPE):
            scope = Scope(pictures=pictures[start : start + _MOST_IN_SCOPE], untreated=True)
            request = RunRequest(library=library.slug, scope=scope)
            create_run(session, library, request, RunOrigin.ARRIVAL, BULK)

    def _prove(self, library: Library, follow: Follow) -> BaseModel:
        request = ProofRequest.model_validate(follow.request)
        return prove_hand_back(self.database, request.run_id, self.keeper(library))

    def _weigh(self, library: Library, follow: Follow) -> BaseModel:
        order = WeighOrder.model_validate(follow.request)
        weighing = Weighing(
            self.database, self.settings, self.keeper(library), self.sandboxes.person, library, follow, order,
            stopped=lambda: self.stopping or follow.stopped(),
        )  # fmt: skip
        return weighing.carry_out()

    def _report(self, library: Library, follow: Follow) -> BaseModel:
        with Previews.lent(self.database, self.state, self.sandboxes.bulk, self.settings) as previews:
            return make_report(
                self.database, previews, self.sandboxes.bulk, self.settings.reports_dir, library, follow
            )

    def _forecast(self, library: Library, follow: Follow) -> BaseModel:
        outlook = forecast(
            self.database, self.keeper(library), library,
            RecipeSettings.model_validate(follow.request["recipe"]), number=follow.number,
            seconds=follow.request["seconds"], measure=self.sandboxes.person.measure,
            at_a_time=self.settings.children, most_bytes=self.settings.most_bytes,
            stopped=lambda: self.stopping or follow.stopped(),
        )  # fmt: skip
        return ForecastReport(recipe_version=follow.request["recipe_version"], outlook=outlook)

    def treat_picture(self, run_id: int, picture_id: int) -> None:
        """Does all waiting items of one picture in a run; leaves them when the run is not running."""
        with self.database.advisory_lock(PICTURE_LOCK, picture_id) as free:
            for item_id in self._items(run_id, picture_id):
                begun = self._begin(item_id) if free and not self.stopping else None
                if begun is None:
                    self._put_back(item_id)
                    continue
                self._do(begun)

    def _items(self, run_id: int, picture_id: int) -> list[int]:
        with self.database.begin() as session:
            query = select(Item.id).where(
                Item.run_id == run_id, Item.picture_id == picture_id, Item.state == ItemState.QUEUED
            )
            return list(session.scalars(query.order_by(Item.id)))

    def _begin(self, item_id: int) -> _Begun | None:
        """Takes an item in hand; None when its run is not running, or it has ended."""
        with self.database.begin() as session:
            item = session.get_one(Item, item_id, with_for_update=True)
            run = session.get_one(Run, item.run_id)
            if run.state != RunState.RUNNING or item.finished_at is not None:
                return None
            item.state, item.started_at = ItemState.WORKING, datetime.now(UTC)
            item.attempts += 1
            notify(session, run=run.id)
            library = session.get_one(Library, run.library_id)
            return _Begun(item, run, library, self._order(session, run, item, library))

    def _pool(self, run: Run) -> Sandbox:
        """The children for a run's files, by who waits for it."""
        if run.priority >= NEW_UPLOAD:
            return self.sandboxes.arrivals
        return self.sandboxes.person if run.priority >= SINGLE_REQUEST else self.sandboxes.bulk

    def _put_back(
        self, item_id: int, *, seconds: float = 0.0, code: str | None = None, why: str = ""
    ) -> None:
        """Back in line, after a while when ``seconds`` are given, with what happened so far."""
        with self.database.begin() as session:
            item = session.get_one(Item, item_id, with_for_update=True)
            if item.finished_at is None:
                item.state, item.job_id = ItemState.WAITING, None
                if seconds and code in ("not-there", "disk-full"):
                    item.not_before = func.now() + timedelta(seconds=seconds)
                    item.attempts -= 1
                    item.code, item.reason = code, why
                elif seconds:
                    item.not_before = func.now() + timedelta(seconds=seconds)
                    item.tries += 1
                    item.code, item.reason = code, f"{why}; it is tried again by itself"
                    notify(session, run=item.run_id)

    def _do(self, begun: _Begun) -> None:
        item, run, order = begun.item, begun.run, begun.order
        keeper = self.keeper(begun.library)
        key = order.key if order else None
        try:
            recover(keeper, item.file_id)
            with self.database.begin() as session:
                file = session.get_one(File, item.file_id)
                if session.scalar(
                    select(Journal.id).where(Journal.file_id == file.id, Journal.action != "discard").limit(1)
                ):
                    raise StorageError(
                        "change-open",
                        f"the last change of {file.path} cannot be settled: is a volume or a folder away?",
                    )
            if item.attempts > MOST_ATTEMPTS:
                raise SandboxError(
                    "gave-up", f"the worker died on it {MOST_ATTEMPTS} times; it was left as it is"
                )
            if order is None:
                outcome = self._restore(keeper, run, file)
            elif (
                run.priority >= NEW_UPLOAD and item.stage == 0 and order.upkeep.backups and file.size is None
            ):
                # Two stages need the backup: without one the copies must come from this one reading.
                light = treat_file(keeper, self.sandboxes.person, file, order, Stage.LIGHT)
                if light.outputs:
                    self._next_stage(item.id, light)
                    return
                outcome = light
            elif item.stage and _stands(file, item):
                outcome = treat_file(keeper, self._pool(run), file, order, Stage.BESIDE, tuple(item.outputs))
            else:
                outcome = treat_file(keeper, self._pool(run), file, order)
        except LeftAlone as error:
            beyond = {"bytes": self.settings.most_bytes} if isinstance(error, TooManyBytes) else None
            outcome = Outcome(ItemState.PASSED, FileState.LEFT_ALONE, error.code, str(error), beyond=beyond)
        except ImagingError as error:
            # What is too large for this machine need not be for another, or tomorrow.
            beyond = {"pixels": self.settings.most_pixels} if isinstance(error, TooLarge) else None
            outcome = Outcome(ItemState.FAILED, FileState.UNREADABLE, error.code, str(error), beyond=beyond)
        except NotThere as error:
            self._put_back(item.id, seconds=_AWAY_SECONDS, code=error.code, why=str(error))
            return
        except (SandboxError, StorageError) as error:
            if error.code == "stopped":
                self._put_back(item.id)
                return
            if error.code == "disk-full":
                self.room.ran_out(begun.library, file.size_now)
                self._put_back(item.id, seconds=ROOM_SECONDS, code=error.code, why=str(error))
                return
            waits = self.settings.retry_seconds
            if error.code in _TRANSIENT and item.tries < len(waits):
                self._put_back(item.id, seconds=waits[item.tries], code=error.code, why=str(error))
                return
            if error.code == "gone" and order is not None:
                # The site deleted it meanwhile: nothing failed, and the next look records it.
                self._end(
                    item.id, Outcome(ItemState.PASSED, None, error.code, str(error), settled=False), key
                )
                return
            state = FileState.FAILED if order else None
            settled = error.code not in _PASSING
            outcome = Outcome(ItemState.FAILED, state, error.code, str(error), settled=settled)
        except Exception as error:
            if lost_connection(error):
                raise  # the database is away: the file's turn comes again
            log.exception("an item failed", item=item.id)
            reason = f"an internal error ({type(error).__name__}); the worker's log says more"
            outcome = Outcome(ItemState.FAILED, FileState.FAILED, "internal-error", reason, settled=False)
        self._end(item.id, outcome, key)

    def _order(self, session: Session, run: Run, item: Item, library: Library) -> Order | None:
        """What the item is to be treated to; None for a run that restores."""
        if run.kind != RunKind.TREAT:
            return None
        file = session.get_one(File, item.file_id)
        recipe, key = shaped_recipe(session, file, recipe_of(session, run, item.variant))
        settings = RecipeSettings.model_validate(run.settings)
        most_bytes, unwanted = self.settings.most_bytes, file.size is not None and file.unwanted
        return Order(run.id, recipe, key, settings, upkeep_of(library), most_bytes, unwanted)

    def _restore(self, keeper: Keeper, run: Run, file: File) -> Outcome:
        note = Note(run_id=run.id)
        if file.size is not None or keeper.purpose_of(file.sha256) == "size":
            keeper.drop_sized(file, note)
            return Outcome(ItemState.DONE)
        try:
            keeper.restore(file, note, overwrite=run.overwrite, hold=run.kind == RunKind.RESTORE)
        except StorageError as error:
            if run.kind == RunKind.HAND_BACK and error.code in ("no-backup", "gone"):
                keeper.drop_all_derived(file, note)
            raise
        return Outcome(ItemState.DONE)

    def _next_stage(self, item_id: int, light: Outcome) -> None:
        """The file is served in light form; its copies come behind other pictures in a hurry."""
        with self.database.begin() as session:
            item = session.get_one(Item, item_id)
            item.stage, item.state, item.job_id = 1, ItemState.WAITING, None
            item.outputs = list(light.outputs)
            count(session, item, datetime.now(UTC))
            refresh_pictures(session, [item.picture_id])
            notify(session, run=item.run_id)

    def _end(self, item_id: int, outcome: Outcome, key: dict[str, Any] | None) -> None:
        with self.database.begin() as session:
            item = session.get_one(Item, item_id, with_for_update=True)
            if item.finished_at is not None:
                return
            file = session.get_one(File, item.file_id)
            if outcome.item is ItemState.FAILED and item.stage and _stands(file, item):
                # The light form is there and stays; what is beside it is made by a retry, or the next run.
                outcome = replace(outcome, file=FileState.LIGHTER if file.sha256 else None, settled=False)
            if outcome.file is not None:
                _settle(file, outcome, key)
            item.code, item.reason, item.score = outcome.code, outcome.reason, outcome.score
            item.not_before = None
            if outcome.item is not ItemState.FAILED or not item.stage:
                item.outputs = list(outcome.outputs)
            if outcome.item is not ItemState.FAILED:
                item.bytes_before, item.bytes_after = file.size_before, file.size_now
                item.bytes_lightest = min(
                    [file.size_now, *(derived.size for derived in file.derived if derived.stands_in)]
                )
            if key is not None and outcome.outputs and not item.stage:
                count(session, item, datetime.now(UTC))
            end_item(session, item, outcome.item, datetime.now(UTC))
            refresh_pictures(session, [item.picture_id])
            notify(session, run=item.run_id, item=item.id)


def _stands(file: File, item: Item) -> bool:
    """Whether what the first stage made of a file still stands: nobody restored it since."""
    light = any(one["role"] == "file" and one["verdict"] == "chosen" for one in item.outputs)
    return bool(item.outputs) and (file.sha256 is not None or not light)


def _show(file: File, outcome: Outcome) -> None:
    """Records how large what stands there is."""
    if file.size is not None:
        if outcome.shown is not None:
            file.width, file.height = outcome.shown
            file.size_before = file.size_now
        return
    same = outcome.shown in (None, (file.width, file.height))
    file.shown_width, file.shown_height = (None, None) if same else outcome.shown  # type: ignore[misc]


def _settle(file: File, outcome: Outcome, key: dict[str, Any] | None) -> None:
    assert outcome.file is not None
    file.reason = outcome.reason
    # What could not be made for a size is not there; what was made before stays as it was.
    if file.size is None or outcome.item is not ItemState.FAILED:
        file.state = outcome.file
    file.recipe = key if outcome.settled else None
    if file.recipe is not None and outcome.beyond is not None:
        file.recipe = file.recipe | {BEYOND: outcome.beyond}
    if outcome.item is ItemState.FAILED:
        return
    file.level = key["level"] if key is not None else None
    _show(file, outcome)
    file.score, file.how = outcome.score, outcome.how
    file.spot, file.worst = outcome.spot, outcome.worst
    file.treated_at = datetime.now(UTC)
