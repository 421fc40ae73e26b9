"""What each kind of long work is carried out by. A further kind is a line in ``by_kind``."""

from __future__ import annotations

from collections.abc import Callable

from pydantic import BaseModel
from sqlalchemy import select
from sqlalchemy.orm import Session

from plumcrate.contract.automation import NewFiles
from plumcrate.contract.jobs import ForecastReport, JobKind, ProofRequest
from plumcrate.contract.recipes import RecipeSettings
from plumcrate.contract.runs import RunOrigin, RunRequest, Scope
from plumcrate.descriptions.reading import read_words
from plumcrate.intake.survey import survey
from plumcrate.jobs.forecast import forecast
from plumcrate.jobs.long_work import Follow
from plumcrate.jobs.maintenance import check_library, prove_hand_back, prune_backups
from plumcrate.jobs.reporting import make_report
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.state import StateFolder
from plumcrate.previews.previews import Previews
from plumcrate.queue.locks import LIBRARY_LOCK
from plumcrate.queue.tasks import BULK
from plumcrate.records.database import Database
from plumcrate.records.tables import File, Library
from plumcrate.runs.runs import automation_of, create_run
from plumcrate.sandbox.children import Sandboxes
from plumcrate.settings import Settings
from plumcrate.storage.errors import StorageError
from plumcrate.weighing.job import WeighingJob, WeighOrder

#: So many pictures are in the scope of one run.
_MOST_IN_SCOPE = 100_000


class JobKinds:
    """Carries out jobs of every kind; ``stopping`` tells that the worker is to end."""

    def __init__(
        self,
        settings: Settings,
        database: Database,
        sandboxes: Sandboxes,
        state: StateFolder,
        stopping: Callable[[], bool],
    ) -> None:
        self._settings, self._database, self._sandboxes, self._state = settings, database, sandboxes, state
        self._stopping = stopping
        self.by_kind: dict[JobKind, Callable[[Library, Follow], BaseModel]] = {
            JobKind.SURVEY: self.survey,
            JobKind.CHECK: lambda library, follow: check_library(self._keeper(library), follow),
            JobKind.FORECAST: self.forecast,
            JobKind.PROOF: self.prove,
            JobKind.PRUNING: lambda library, follow: prune_backups(self._keeper(library), follow),
            JobKind.WEIGHING: self.weigh,
            JobKind.REPORT: self.report,
            JobKind.RESEMBLANCE: self.resemblance,
            JobKind.WORDS: self.words,
            JobKind.NEAR_DUPLICATES: self.near_duplicates,
        }

    def survey(self, library: Library, follow: Follow) -> BaseModel:
        with self._database.advisory_lock(LIBRARY_LOCK, library.id) as free:
            if not free:
                raise StorageError("busy", f"{library.name} is being surveyed already")
            arrived: dict[int, None] = {}

            def note(paths: list[str]) -> None:
                with self._database.begin() as session:
                    ours = File.library_id == library.id, File.path.in_(paths)
                    arrived.update(dict.fromkeys(session.scalars(select(File.picture_id).where(*ours))))

            # What a first look finds was there before us: it waits for a schedule, or a person.
            hears = note if library.surveyed_at is not None else lambda _: None
            report = survey(self._database, self._keeper(library), library, follow.report, hears)
        with self._database.begin() as session:
            current = session.get_one(Library, library.id)
            if arrived and automation_of(current).new_files is not NewFiles.BY_HAND and not current.dormant:
                _treat_arrivals(session, current, list(arrived))
        return report

    def prove(self, library: Library, follow: Follow) -> BaseModel:
        request = ProofRequest.model_validate(follow.request)
        return prove_hand_back(self._database, request.run_id, self._keeper(library))

    def weigh(self, library: Library, follow: Follow) -> BaseModel:
        order = WeighOrder.model_validate(follow.request)
        weighing = WeighingJob(
            self._database,
            self._settings,
            self._keeper(library),
            self._sandboxes.person,
            library,
            follow,
            order,
            stopped=lambda: self._stopping() or follow.stopped(),
        )
        return weighing.carry_out()

    def report(self, library: Library, follow: Follow) -> BaseModel:
        bulk, folder = self._sandboxes.bulk, self._settings.reports_dir
        with Previews.lent(self._database, self._state, bulk, self._settings) as previews:
            return make_report(self._database, previews, bulk, folder, library, follow)

    def resemblance(self, library: Library, follow: Follow) -> BaseModel:
        from plumcrate.intake.resembling import propose_renditions  # numpy: no other work here needs it

        return propose_renditions(
            self._keeper(library),
            self._sandboxes.bulk,
            follow,
            at_a_time=self._settings.children,
            most_bytes=self._settings.most_bytes,
        )

    def words(self, library: Library, follow: Follow) -> BaseModel:
        keeper, bulk = self._keeper(library), self._sandboxes.bulk
        return read_words(keeper, bulk, follow, at_a_time=self._settings.children)

    def near_duplicates(self, library: Library, follow: Follow) -> BaseModel:
        from plumcrate.intake.near_duplicates import find_near_duplicates  # numpy, as above

        return find_near_duplicates(
            self._keeper(library),
            self._sandboxes.bulk,
            follow,
            at_a_time=self._settings.children,
            most_bytes=self._settings.most_bytes,
        )

    def forecast(self, library: Library, follow: Follow) -> BaseModel:
        outlook = forecast(
            self._database,
            self._keeper(library),
            library,
            RecipeSettings.model_validate(follow.request["recipe"]),
            number=follow.number,
            seconds=follow.request["seconds"],
            measure=self._sandboxes.person.measure,
            at_a_time=self._settings.children,
            most_bytes=self._settings.most_bytes,
            stopped=lambda: self._stopping() or follow.stopped(),
        )
        return ForecastReport(recipe_version=follow.request["recipe_version"], outlook=outlook)

    def _keeper(self, library: Library) -> Keeper:
        return Keeper.of(self._database, library, self._state)


def _treat_arrivals(session: Session, library: Library, pictures: list[int]) -> None:
    """Just what is new or changed, in the background."""
    for start in range(0, len(pictures), _MOST_IN_SCOPE):
        scope = Scope(pictures=pictures[start : start + _MOST_IN_SCOPE], untreated=True)
        request = RunRequest(library=library.slug, scope=scope)
        create_run(session, library, request, RunOrigin.ARRIVAL, BULK)
