"""What the worker's jobs do: treat or restore the files of one picture, or carry out long work on a
library."""

from __future__ import annotations

from sqlalchemy import select

from plumcrate import trace
from plumcrate.jobs.long_work import carry_out
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.recovery import recover
from plumcrate.keeping.state import StateFolder
from plumcrate.queue.locks import PICTURE_LOCK
from plumcrate.records.database import Database, lost_connection
from plumcrate.records.tables import File, Journal, Library
from plumcrate.runs.faults import MachineLimits, after_fault
from plumcrate.runs.items import Begun, Items
from plumcrate.runs.runs import MOST_ATTEMPTS
from plumcrate.runs.steps import Again, Step
from plumcrate.runs.turns import turn_of
from plumcrate.sandbox.children import SandboxError, Sandboxes
from plumcrate.settings import Settings
from plumcrate.storage.errors import StorageError

from .disk_space import DiskSpace
from .job_kinds import JobKinds
from .settling import settle_open_changes


class Engine:
    """Carries out jobs. One per worker process; its methods run in several threads at once."""

    def __init__(self, settings: Settings, database: Database, sandboxes: Sandboxes) -> None:
        self.settings = settings
        self.database = database
        self.sandboxes = sandboxes
        self.state = StateFolder(database, settings.state_dir)
        self.stopping = False
        self.disk_space = DiskSpace(settings.state_dir)
        self.items = Items(database, settings.most_bytes)
        self.job_kinds = JobKinds(settings, database, sandboxes, self.state, lambda: self.stopping)
        self._limits = MachineLimits(settings.most_bytes, settings.most_pixels, tuple(settings.retry_seconds))

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
        return self.disk_space.lacking(library)

    def recover_all(self, *, at_start: bool = False) -> bool:
        """Settles every change that a dead process left open; whether any is open."""
        return settle_open_changes(self.database, self.keeper, at_start=at_start)

    def run_job(self, job_id: int) -> None:
        """Carries out a job of long work, unless it has ended already."""
        with trace.span("job", {"plumcrate.job": job_id}):
            carry_out(self.database, job_id, self.job_kinds.by_kind)

    def treat_picture(self, run_id: int, picture_id: int) -> None:
        """Does all waiting items of one picture in a run; leaves them when the run is not running."""
        with self.database.advisory_lock(PICTURE_LOCK, picture_id) as free:
            for item_id in self.items.queued(run_id, picture_id):
                begun = self.items.begin(item_id) if free and not self.stopping else None
                if begun is None:
                    self.items.put_back(item_id)
                    continue
                with trace.span("treat file", _facts(begun)) as span:
                    step = self._step(begun)
                    span.say({"plumcrate.outcome": type(step).__name__})
                    self.items.record(begun, step)

    def _step(self, begun: Begun) -> Step:
        """Takes an item's turn; what it came to. Raises only when the database is away: its turn comes
        again."""
        try:
            file = self._settled(begun)
            if begun.item.attempts > MOST_ATTEMPTS:
                raise SandboxError(
                    "gave-up", f"the worker died on it {MOST_ATTEMPTS} times; it was left as it is"
                )
            turn = turn_of(begun.item, begun.run, file, begun.order)
            return turn.take(self.keeper(begun.library), self.sandboxes)
        except Exception as error:
            if lost_connection(error):
                raise
            step = after_fault(error, begun.item, self._limits, treating=begun.order is not None)
            if isinstance(step, Again) and step.code == "disk-full":
                self.disk_space.ran_out(begun.library, begun.file.size_now)
            return step

    def _settled(self, begun: Begun) -> File:
        """The item's file after its open changes were settled. Raises StorageError."""
        recovered = recover(self.keeper(begun.library), begun.item.file_id)
        if not (recovered.finished or recovered.undone or recovered.open):
            return begun.file
        open_change = select(Journal.id).where(Journal.file_id == begun.file.id, Journal.action != "discard")
        with self.database.begin() as session:
            if session.scalar(open_change.limit(1)):
                raise StorageError(
                    "change-open",
                    f"the last change of {begun.file.path} cannot be settled: is a volume or a folder away?",
                )
            return session.get_one(File, begun.file.id)


def _facts(begun: Begun) -> trace.Facts:
    """What a span says of an item."""
    return {
        "plumcrate.library": begun.library.slug,
        "plumcrate.run": begun.item.run_id,
        "plumcrate.file": begun.file.id,
        "plumcrate.format": begun.file.format or "",
        "plumcrate.bytes": begun.file.size_now,
        "plumcrate.megapixels": round(begun.file.width * begun.file.height / 1e6, 2),
    }
