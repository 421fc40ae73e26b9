"""What the jobs do: survey a library, treat or restore a picture's files, one picture one lock."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

import structlog
from sqlalchemy import select
from sqlalchemy.exc import OperationalError
from sqlalchemy.orm import Session

from plumcrate.contract import FileState, ItemState, RunKind, RunState
from plumcrate.imaging import ImagingError, Output, Recipe, Treatment
from plumcrate.imaging.errors import LeftAlone
from plumcrate.keeping.backups import BackupStore
from plumcrate.keeping.keeper import Keeper, Note
from plumcrate.keeping.recovery import recover
from plumcrate.records.database import Database, notify
from plumcrate.records.queries.runs import end_item, item_view
from plumcrate.records.queries.sums import refresh_pictures
from plumcrate.records.tables import File, Item, Journal, Library, Run, Survey
from plumcrate.settings import Settings
from plumcrate.storage.folder import Folder, StorageError

from .runs import MOST_ATTEMPTS, recipe_of
from .sandbox import Sandbox, SandboxError
from .survey import survey

log = structlog.get_logger()

#: Spaces of the advisory locks; the key is the picture's or library's id.
PICTURE_LOCK, LIBRARY_LOCK = 727_010, 727_011

#: Failures that may pass by themselves: the next run tries such a file again.
_PASSING = frozenset(
    {"disk-full", "no-permission", "read-only", "disk-error", "changed-outside", "stopped", "gone",
     "storage-error", "internal-error"}
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class _Outcome:
    """How an item ended, and what becomes of its file's record."""

    item: ItemState
    file: FileState | None = None
    code: str | None = None
    reason: str | None = None
    score: float | None = None
    outputs: tuple[dict[str, Any], ...] = ()
    settled: bool = True
    how: str | None = None


class Engine:
    """Carries out jobs. One per worker process; its methods run in several threads at once."""

    def __init__(self, settings: Settings, database: Database, sandbox: Sandbox) -> None:
        self.settings = settings
        self.database = database
        self.sandbox = sandbox
        self.stopping = False

    def keeper(self, library: Library) -> Keeper:
        """The keeper of a library's files."""
        store = BackupStore(self.settings.backups_of(library.slug))
        return Keeper(self.database, library.id, Folder(library.root), store)

    def recover_all(self) -> None:
        """Settles every change that a dead process left open, where its picture is not locked."""
        with self.database.begin() as session:
            libraries = list(session.scalars(select(Library)))
        for library in libraries:
            with self.database.begin() as session:
                rows = session.execute(
                    select(Journal.file_id, File.picture_id)
                    .join(File, File.id == Journal.file_id)
                    .where(Journal.library_id == library.id)
                    .distinct()
                ).all()
            for file_id, picture_id in rows:
                with self.database.advisory_lock(PICTURE_LOCK, picture_id) as free:
                    if not free:
                        continue
                    try:
                        outcome = recover(self.keeper(library), file_id)
                    except StorageError as error:
                        log.warning("recovery is waiting", library=library.slug, reason=str(error))
                        continue
                    log.info(
                        "recovered", library=library.slug, finished=outcome.finished, undone=outcome.undone
                    )

    def run_survey(self, survey_id: int) -> None:
        """Carries out a survey, unless it has ended already."""
        with self.database.begin() as session:
            row = session.get(Survey, survey_id)
            if row is None or row.finished_at is not None:
                return
            library = session.get_one(Library, row.library_id)
        with self.database.advisory_lock(LIBRARY_LOCK, library.id) as free:
            if free:
                survey(self.database, survey_id, self.keeper(library))

    def treat_picture(self, run_id: int, picture_id: int) -> None:
        """Does all waiting items of one picture in a run; leaves them when the run is not running."""
        with self.database.advisory_lock(PICTURE_LOCK, picture_id) as free:
            for item_id in self._items(run_id, picture_id):
                if not free or self.stopping or not self._begin(item_id):
                    self._put_back(item_id)
                    continue
                self._do(item_id)

    def _items(self, run_id: int, picture_id: int) -> list[int]:
        with self.database.begin() as session:
            query = select(Item.id).where(
                Item.run_id == run_id, Item.picture_id == picture_id, Item.finished_at.is_(None)
            )
            return list(session.scalars(query.order_by(Item.id)))

    def _begin(self, item_id: int) -> bool:
        with self.database.begin() as session:
            item = session.get_one(Item, item_id)
            run = session.get_one(Run, item.run_id)
            if run.state != RunState.RUNNING:
                return False
            item.state, item.started_at = ItemState.WORKING, datetime.now(UTC)
            item.attempts += 1
            notify(session, run=run.id)
        return True

    def _put_back(self, item_id: int) -> None:
        with self.database.begin() as session:
            item = session.get_one(Item, item_id)
            if item.finished_at is None:
                item.state, item.job_id = ItemState.WAITING, None

    def _do(self, item_id: int) -> None:
        with self.database.begin() as session:
            item = session.get_one(Item, item_id)
            run = session.get_one(Run, item.run_id)
            file = session.get_one(File, item.file_id)
            library = session.get_one(Library, run.library_id)
        keeper = self.keeper(library)
        recipe = recipe_of(run, self.settings.max_megapixels) if run.kind == RunKind.TREAT else None
        try:
            recover(keeper, file.id)
            with self.database.begin() as session:
                file = session.get_one(File, file.id)
            if item.attempts > MOST_ATTEMPTS:
                raise SandboxError(
                    "gave-up", f"the worker died on it {MOST_ATTEMPTS} times; it was left as it is"
                )
            if recipe is None:
                keeper.restore(file, Note(run_id=run.id))
                outcome = _Outcome(ItemState.DONE)
            else:
                outcome = self._treat(keeper, run, file, recipe)
        except LeftAlone as error:
            outcome = _Outcome(ItemState.PASSED, FileState.LEFT_ALONE, error.code, str(error))
        except ImagingError as error:
            outcome = _Outcome(ItemState.FAILED, FileState.UNREADABLE, error.code, str(error))
        except OperationalError:
            raise  # the database is away: the file's turn comes again
        except SandboxError as error:
            if error.code == "stopped":
                self._put_back(item_id)
                return
            settled = error.code not in _PASSING
            outcome = _Outcome(ItemState.FAILED, FileState.FAILED, error.code, str(error), settled=settled)
        except StorageError as error:
            settled = error.code not in _PASSING
            state = None if recipe is None else FileState.FAILED
            outcome = _Outcome(ItemState.FAILED, state, error.code, str(error), settled=settled)
        except Exception as error:
            log.exception("an item failed", item=item_id)
            reason = f"an internal error ({type(error).__name__}); the worker's log says more"
            outcome = _Outcome(ItemState.FAILED, FileState.FAILED, "internal-error", reason, settled=False)
        self._end(item_id, outcome, recipe)

    def _treat(self, keeper: Keeper, run: Run, file: File, recipe: Recipe) -> _Outcome:
        current = keeper.folder.read(file.path)
        current_sha = hashlib.sha256(current).digest()
        source = current
        if file.sha256 is not None and current_sha == file.sha256 and file.before_sha256 is not None:
            # Always from the backup: never a second loss on top of the first.
            source = keeper.backups.get(file.before_sha256)
        elif file.before_sha256 is not None and current_sha != file.before_sha256:
            raise StorageError(
                "changed-outside",
                f"{file.path} was changed by somebody else since we treated it: survey again",
            )
        treatment = self.sandbox.treat(source, recipe, file.width * file.height / 1e6)
        after = treatment.main.data if treatment.main.data is not None else source
        note = Note(
            run.id, treatment.main.score if treatment.main.data else None, {"how": treatment.main.how}
        )
        if after != current:
            if after == source:
                keeper.restore(file, note)  # the new recipe leaves the file itself as it first was
            else:
                keeper.replace(file, current, after, note)
        taken = self._write_copies(keeper, run, file, treatment)
        reports = tuple(
            _report(output, taken.get(output.format)) for output in (treatment.main, *treatment.copies)
        )
        changed = treatment.main.data is not None or any(report["verdict"] == "chosen" for report in reports)
        scores = [report["score"] for report in reports if report["verdict"] == "chosen"]
        return _Outcome(
            ItemState.DONE if changed else ItemState.PASSED,
            FileState.LIGHTER if changed else FileState.KEPT,
            None if changed else "nothing-smaller",
            None if changed else "it is as small as it gets at this level",
            min((score for score in scores if score is not None), default=None),
            reports,
            how=treatment.main.how if treatment.main.data is not None else None,
        )

    def _write_copies(self, keeper: Keeper, run: Run, file: File, treatment: Treatment) -> dict[str, str]:
        """Writes the copies that were chosen and drops those that were not; says which names are taken."""
        with self.database.begin() as session:
            file = session.get_one(File, file.id)
        taken: dict[str, str] = {}
        chosen = {output.format: output for output in treatment.copies if output.data is not None}
        keeper.drop_copies(file, Note(run.id), keep=frozenset(chosen))
        for kind, output in chosen.items():
            assert output.data is not None
            try:
                keeper.write_copy(file, kind, output.data, output.how, Note(run.id, output.score))
            except StorageError as error:
                if error.code not in ("name-taken", "name-too-long"):
                    raise
                taken[kind] = str(error)
        return taken

    def _end(self, item_id: int, outcome: _Outcome, recipe: Recipe | None) -> None:
        with self.database.begin() as session:
            item = session.get_one(Item, item_id)
            if item.finished_at is not None:
                return
            file = session.get_one(File, item.file_id)
            if outcome.file is not None:
                self._settle(session, file, outcome, recipe)
            item.code, item.reason, item.score = outcome.code, outcome.reason, outcome.score
            item.outputs = list(outcome.outputs)
            if outcome.item is not ItemState.FAILED:
                item.bytes_before, item.bytes_after = file.size_before, file.size_now
                item.bytes_lightest = min([file.size_now, *(copy.size for copy in file.copies)])
            end_item(session, item, outcome.item, datetime.now(UTC))
            refresh_pictures(session, [item.picture_id])
            notify(
                session, run=item.run_id, item=item_view(item).model_dump(mode="json", exclude={"outputs"})
            )

    def _settle(self, session: Session, file: File, outcome: _Outcome, recipe: Recipe | None) -> None:
        assert outcome.file is not None
        file.state, file.reason = outcome.file, outcome.reason
        file.recipe = recipe.as_dict() if recipe is not None and outcome.settled else None
        if outcome.item is ItemState.FAILED:
            return
        file.level = str(recipe.level) if recipe else None
        file.score, file.how = outcome.score, outcome.how
        file.treated_at = datetime.now(UTC)


def _report(output: Output, taken: str | None) -> dict[str, Any]:
    report = {
        "format": output.format,
        "verdict": output.verdict,
        "reason": output.reason,
        "size": output.size,
        "score": None if output.score is None else round(output.score, 2),
        "how": output.how,
    }
    if taken is not None:
        report |= {"verdict": "name-taken", "reason": taken}
    return report
