"""A run's items on record: taken in hand, and what each turn came to. Every method is one transaction."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from plumcrate.contract.pictures import FileState
from plumcrate.contract.recipes import RecipeSettings
from plumcrate.contract.runs import ItemState, RunKind, RunState
from plumcrate.deciding.decision import BEYOND
from plumcrate.deciding.shaping import shaped_recipe
from plumcrate.records.database import Database, notify
from plumcrate.records.queries.runs import end_item
from plumcrate.records.queries.sums import refresh_pictures
from plumcrate.records.tables import File, Item, Library, Run

from .allowance import count
from .runs import automation_of, recipe_of
from .steps import Again, CopiesLater, Ended, Step
from .treating import ItemOutcome, TreatOrder
from .turns import light_form_stands


@dataclass(frozen=True, slots=True)
class Begun:
    """An item in hand, its file, and what it is to be treated to; no order for a run that restores."""

    item: Item
    run: Run
    library: Library
    file: File
    order: TreatOrder | None

    @property
    def key(self) -> dict[str, Any] | None:
        """What is kept with the file, to tell whether it was treated just so."""
        return self.order.key if self.order else None


class Items:
    """``most_bytes``: larger files are left alone on this machine."""

    def __init__(self, database: Database, most_bytes: int) -> None:
        self._database, self._most_bytes = database, most_bytes

    def queued(self, run_id: int, picture_id: int) -> list[int]:
        """The items of one picture that are to be done, in their order."""
        query = select(Item.id).where(
            Item.run_id == run_id, Item.picture_id == picture_id, Item.state == ItemState.QUEUED
        )
        with self._database.reading() as session:
            return list(session.scalars(query.order_by(Item.id)))

    def begin(self, item_id: int) -> Begun | None:
        """Takes an item in hand; None when its run is not running, or it has ended."""
        query = (
            select(Item, Run, Library, File)
            .join(Run, Run.id == Item.run_id)
            .join(Library, Library.id == Run.library_id)
            .join(File, File.id == Item.file_id)
            .where(Item.id == item_id)
            .with_for_update(of=Item)
        )
        with self._database.begin() as session:
            found = session.execute(query).first()
            if found is None:
                return None
            item, run, library, file = found
            if run.state != RunState.RUNNING or item.finished_at is not None:
                return None
            item.state, item.started_at = ItemState.WORKING, datetime.now(UTC)
            item.attempts += 1
            notify(session, run=run.id)
            order = self._order(session, run, item, library, file) if run.kind == RunKind.TREAT else None
            return Begun(item, run, library, file, order)

    def put_back(self, item_id: int) -> None:
        """Back in line, as if its turn had not come."""
        self._again(item_id, Again())

    def record(self, begun: Begun, step: Step) -> None:
        """Records what a turn came to."""
        match step:
            case Again():
                self._again(begun.item.id, step)
            case CopiesLater(light):
                self._copies_later(begun.item.id, light)
            case Ended(outcome):
                self._ended(begun.item.id, outcome, begun.key)

    def _order(self, session: Session, run: Run, item: Item, library: Library, file: File) -> TreatOrder:
        recipe, key = shaped_recipe(session, file, recipe_of(session, run, item.variant))
        settings = RecipeSettings.model_validate(run.settings)
        unwanted = file.size_name is not None and file.unwanted
        return TreatOrder(run.id, recipe, key, settings, automation_of(library), self._most_bytes, unwanted)

    def _again(self, item_id: int, step: Again) -> None:
        with self._database.begin() as session:
            item = session.get_one(Item, item_id, with_for_update=True)
            if item.finished_at is not None:
                return
            item.state, item.job_id = ItemState.WAITING, None
            if step.code is None:
                return
            item.not_before = func.now() + timedelta(seconds=step.pause)
            item.code, item.reason = step.code, step.reason
            if step.counts:
                item.tries += 1
                item.reason += "; it is tried again by itself"
                notify(session, run=item.run_id)
            else:
                item.attempts -= 1

    def _copies_later(self, item_id: int, light: ItemOutcome) -> None:
        with self._database.begin() as session:
            item = session.get_one(Item, item_id)
            item.stage, item.state, item.job_id = 1, ItemState.WAITING, None
            item.outputs = list(light.outputs)
            count(session, item, datetime.now(UTC))
            refresh_pictures(session, [item.picture_id])
            notify(session, run=item.run_id)

    def _ended(self, item_id: int, outcome: ItemOutcome, key: dict[str, Any] | None) -> None:
        with self._database.begin() as session:
            item = session.get_one(Item, item_id, with_for_update=True)
            if item.finished_at is not None:
                return
            file = session.get_one(File, item.file_id)
            if outcome.item is ItemState.FAILED and item.stage and light_form_stands(file, item):
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


def _show(file: File, outcome: ItemOutcome) -> None:
    """Records how large what stands there is."""
    if file.size_name is not None:
        if outcome.shown is not None:
            file.width, file.height = outcome.shown
            file.size_before = file.size_now
        return
    same = outcome.shown in (None, (file.width, file.height))
    file.shown_width, file.shown_height = (None, None) if same else outcome.shown  # type: ignore[misc]


def _settle(file: File, outcome: ItemOutcome, key: dict[str, Any] | None) -> None:
    assert outcome.file is not None
    file.reason = outcome.reason
    # What could not be made for a size is not there; what was made before stays as it was.
    if file.size_name is None or outcome.item is not ItemState.FAILED:
        file.state = outcome.file
    file.recipe = key if outcome.settled else None
    if file.recipe is not None and outcome.beyond is not None:
        file.recipe = file.recipe | {BEYOND: outcome.beyond}
    if outcome.item is ItemState.FAILED:
        return
    file.level = key["level"] if key is not None else None
    _show(file, outcome)
    file.score, file.how = outcome.score, outcome.how
    file.worst_place, file.worst = outcome.worst_place, outcome.worst
    file.treated_at = datetime.now(UTC)
