"""Treating one file: from its bytes and a recipe to what stands in the library, and what to record."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, replace
from pathlib import PurePosixPath
from typing import TYPE_CHECKING, Any

from plumcrate.contract import FileState, FirstFile, ItemState, RecipeSettings, Upkeep
from plumcrate.imaging import Level
from plumcrate.imaging.errors import LeftAlone
from plumcrate.keeping.changes import Note
from plumcrate.keeping.keeper import Keeper
from plumcrate.records.tables import File
from plumcrate.storage.errors import StorageError

from .decision import key_of
from .sandbox import Sandbox

if TYPE_CHECKING:
    from plumcrate.imaging import Output, Recipe, Treatment

#: Copies that could not be written for such a reason cost the copy, not the file.
_NO_ROOM = ("name-taken", "name-too-long")
#: The ending of a file in another format.
_ENDINGS = {"jpeg": ".jpg", "png": ".png"}


@dataclass(frozen=True, slots=True)
class Outcome:
    """How an item ended, and what becomes of its file's record.

    ``settled``: the file need not be looked at again under the same recipe.
    """

    item: ItemState
    file: FileState | None = None
    code: str | None = None
    reason: str | None = None
    score: float | None = None
    outputs: tuple[dict[str, Any], ...] = ()
    settled: bool = True
    how: str | None = None


@dataclass(frozen=True, slots=True)
class Order:
    """What is to be done to a file, for which run. ``most_bytes``: larger files are left alone."""

    run_id: int
    recipe: Recipe
    settings: RecipeSettings
    upkeep: Upkeep
    most_bytes: int = 300_000_000


def first_light(order: Order) -> Order:
    """The part of an order that is served first: the file itself, without copies."""
    recipe = replace(order.recipe, webp=False, avif=False, convert=frozenset())
    return replace(order, recipe=recipe)


def treat_file(keeper: Keeper, sandbox: Sandbox, file: File, order: Order, *, copies: bool = True) -> Outcome:
    """Carries an order out. Raises ImagingError, SandboxError or StorageError."""
    size = keeper.store.facts(file.path).size
    if size > order.most_bytes:
        raise LeftAlone(
            f"its {size / 1e6:,.0f} MB are more than the {order.most_bytes / 1e6:,.0f} MB treated here"
        )
    current = keeper.store.read(file.path)
    source = source_of(keeper, file, current)
    if source is None:
        return Outcome(
            ItemState.PASSED, None, "no-backup",
            "it was changed before and has no backup to start from, so it is not changed again",
        )  # fmt: skip
    treatment = sandbox.treat(source, order.recipe, file.width * file.height / 1e6)
    after = treatment.main.data if treatment.main.data is not None else source
    note = Note(
        order.run_id, treatment.main.score if treatment.main.data else None, {"how": treatment.main.how},
        {"level": str(order.recipe.level), "recipe": key_of(order.recipe), "how": treatment.main.how,
         "score": treatment.main.score},
    )  # fmt: skip
    if after != current:
        if after == source:
            keeper.restore(file, note)  # the new recipe leaves the file itself as it first was
        else:
            keeper.replace(
                file, current, after, note,
                backup=order.upkeep.backups, keep_times=order.upkeep.keep_times,
                store_limit=order.upkeep.backups_limit,
            )  # fmt: skip
    taken = _write_copies(keeper, order, file, treatment) if copies else {}
    outputs = (treatment.main, *treatment.copies, *treatment.conversions)
    reports = tuple(_report(output, taken.get(output.format)) for output in outputs)
    return _outcome(treatment, reports, _removed(keeper, file))


def source_of(keeper: Keeper, file: File, current: bytes) -> bytes | None:
    """The bytes to treat: always from the backup, never a second loss on top of the first.

    None when a file was changed with loss and has no backup. Raises StorageError, for one when somebody
    else changed a file that we treated.
    """
    sha = hashlib.sha256(current).digest()
    if file.before_sha256 is not None:
        if sha == file.before_sha256:
            return current
        if sha == file.sha256:
            return keeper.backups.get(file.before_sha256)
    elif file.sha256 is None:
        return current
    elif sha == file.sha256:
        return current if file.level == Level.EXACT else None
    raise StorageError(
        "changed-outside", f"{file.path} was changed by somebody else since we treated it: survey again"
    )


def _outcome(treatment: Treatment, reports: tuple[dict[str, Any], ...], removed: bool) -> Outcome:
    changed = treatment.main.data is not None or any(report["verdict"] == "chosen" for report in reports)
    scores = [report["score"] for report in reports if report["verdict"] == "chosen"]
    state = FileState.REMOVED if removed else FileState.LIGHTER if changed else FileState.KEPT
    return Outcome(
        ItemState.DONE if changed else ItemState.PASSED,
        state,
        None if changed else "nothing-smaller",
        None if changed else "it is as small as it gets at this level",
        min((score for score in scores if score is not None), default=None),
        reports,
        how=treatment.main.how if treatment.main.data is not None else None,
    )


def _write_copies(keeper: Keeper, order: Order, file: File, treatment: Treatment) -> dict[str, str]:
    """Writes the copies that were chosen and drops those that were not; says which names are taken."""
    file = _again(keeper, file)
    taken: dict[str, str] = {}
    chosen = {
        output.format: output
        for output in (*treatment.copies, *treatment.conversions)
        if output.data is not None
    }
    keeper.drop_copies(file, Note(order.run_id), keep=frozenset(chosen))
    for kind, output in chosen.items():
        assert output.data is not None
        path = converted_name(file.path, kind) if kind in _ENDINGS else None
        try:
            keeper.write_copy(file, kind, output.data, output.how, Note(order.run_id, output.score), path)
        except StorageError as error:
            if error.code not in _NO_ROOM:
                raise
            taken[kind] = str(error)
    _make_way(keeper, order, file, frozenset(chosen) - frozenset(taken))
    return taken


def converted_name(path: str, kind: str) -> str:
    """The name of a file in another format: its own with the other ending."""
    return str(PurePosixPath(path).with_suffix(_ENDINGS[kind]))


def _make_way(keeper: Keeper, order: Order, file: File, written: frozenset[str]) -> None:
    """Takes the first file away when the recipe says so, its conversion stands and a backup keeps it."""
    converted = written & _ENDINGS.keys()
    if (
        not converted
        or order.settings.conversions.first_file is not FirstFile.REMOVE
        or not order.upkeep.backups
    ):
        return
    file = _again(keeper, file)
    (kind,) = converted
    note = Note(order.run_id, detail={"now": converted_name(file.path, kind)})
    keeper.withdraw(file, keeper.store.read(file.path), note)


def _again(keeper: Keeper, file: File) -> File:
    with keeper.database.begin() as session:
        return session.get_one(File, file.id)


def _removed(keeper: Keeper, file: File) -> bool:
    return _again(keeper, file).state == FileState.REMOVED


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
