"""Treating one file: from its bytes and a recipe to what stands in the library, and what to record."""

from __future__ import annotations

import base64
import hashlib
from dataclasses import asdict, dataclass, replace
from enum import Enum
from typing import TYPE_CHECKING, Any

from sqlalchemy import select

from plumcrate.contract.automation import Automation
from plumcrate.contract.pictures import FileRole, FileState, Purpose
from plumcrate.contract.recipes import FirstFile, RecipeSettings, TrialOutput
from plumcrate.contract.runs import ItemState
from plumcrate.imaging import Level
from plumcrate.imaging.errors import LeftAlone
from plumcrate.imaging.formats import FORMATS
from plumcrate.imaging.outcome import CHOSEN, Chosen, Former, Output, Refused
from plumcrate.imaging.version import core_version
from plumcrate.keeping.changes import ChangeNote
from plumcrate.keeping.derived import Beside
from plumcrate.keeping.keeper import Keeper
from plumcrate.records.tables import File, Result
from plumcrate.sandbox.children import Sandbox
from plumcrate.storage.errors import StorageError

from .duplicates import TreatedOutputs, made_of_duplicate

if TYPE_CHECKING:
    from plumcrate.imaging import Recipe, WorstPlace

_BYTES_A_MEGAPIXEL = 250_000
#: What could not be written for such a reason costs that one, not the file.
_NO_ROOM = ("name-taken", "name-too-long")


class Stage(Enum):
    """Which part of an order is carried out. A new upload is served in light form first, its copies
    follow."""

    WHOLE = "whole"
    LIGHT = "light"
    BESIDE = "beside"


class TooManyBytes(LeftAlone):
    """A file that is larger than what is treated on this machine; another may treat it."""

    def __init__(self, size: int, most: int) -> None:
        super().__init__(f"its {size / 1e6:,.0f} MB are more than the {most / 1e6:,.0f} MB treated here")


@dataclass(frozen=True, slots=True)
class ItemOutcome:
    """How an item ended, and what becomes of its file's record.

    ``settled``: the file need not be looked at again under the same recipe; ``beyond``: but on a machine with
    a larger limit than this. ``shown``: width and height of what took the file's place; None where nothing
    did.
    """

    item: ItemState
    file: FileState | None = None
    code: str | None = None
    reason: str | None = None
    score: float | None = None
    outputs: tuple[dict[str, Any], ...] = ()
    settled: bool = True
    how: str | None = None
    worst_place: dict[str, Any] | None = None
    worst: float | None = None
    beyond: dict[str, int] | None = None
    shown: tuple[int, int] | None = None


@dataclass(frozen=True, slots=True)
class TreatOrder:
    """What is to be done to a file, for which run. ``most_bytes``: larger files are left alone."""

    run_id: int
    recipe: Recipe
    key: dict[str, Any]  # what is kept with the file, to tell whether it was treated just so
    settings: RecipeSettings
    automation: Automation
    most_bytes: int = 300_000_000
    unwanted: bool = False  # a file that was made for a size, and is to be removed


def treat_file(
    keeper: Keeper,
    sandbox: Sandbox,
    file: File,
    order: TreatOrder,
    stage: Stage = Stage.WHOLE,
    former: tuple[dict[str, Any], ...] = (),
) -> ItemOutcome:
    """Carries an order out, or a stage of it; ``former`` are the reports of the stage before.

    Raises ImagingError, SandboxError or StorageError.
    """
    if file.size_name is not None:
        return treat_sized(keeper, sandbox, file, order)
    by_hand = order.recipe.touches or order.recipe.watermark is not None
    if by_hand and not order.automation.backups and file.before_sha256 is None:
        return ItemOutcome(
            ItemState.PASSED,
            None,
            "no-backup",
            "touch-ups and watermarks are only made where a backup keeps the original: switch backups on",
            settled=False,
        )
    size = keeper.store.facts(file.path).size
    if size > order.most_bytes:
        raise TooManyBytes(size, order.most_bytes)
    current = keeper.store.read(file.path)
    source = source_of(keeper, file, current)
    if source is None:
        return ItemOutcome(
            ItemState.PASSED,
            None,
            "no-backup",
            "it was changed before and has no backup to start from, so it is not changed again",
        )
    recipe = order.recipe
    if stage is Stage.LIGHT:
        recipe = replace(recipe, copies=frozenset(), convert=frozenset(), save_data=False)
    made = made_of_duplicate(keeper, file, source, recipe, order.key) if stage is Stage.WHOLE else None
    if made is None:
        megapixels = file.width * file.height / 1e6
        if file.animated or not megapixels:  # then the work is as much as its bytes
            megapixels = max(megapixels, len(source) / _BYTES_A_MEGAPIXEL)
        treatment = sandbox.treat(source, recipe, megapixels, _former(len(current), stage, former))
        made = TreatedOutputs(treatment.outputs, treatment.facts.shown_size)
    if stage is not Stage.BESIDE:
        _put_in_place(keeper, order, file, made.main, source, current)
    taken = _write_beside(keeper, order, file, made) if stage is not Stage.LIGHT else {}
    reports = former + tuple(
        report_of(output, taken.get((output.role, output.format))) for output in made.outputs
    )
    outcome = _outcome(reports, _removed(keeper, file))
    replaced = any(one["role"] == "file" and one["verdict"] == "chosen" for one in reports)
    return replace(outcome, shown=made.shown_size) if replaced else outcome


def treat_sized(keeper: Keeper, sandbox: Sandbox, file: File, order: TreatOrder) -> ItemOutcome:
    """Makes, makes again or removes a file for a size, with its copies: always from the picture's original.

    Raises ImagingError, SandboxError or StorageError.
    """
    note = ChangeNote(order.run_id)
    if order.unwanted:
        keeper.drop_sized(file, note)
        return ItemOutcome(ItemState.DONE)
    original = _original_of(keeper, file)
    source = _source_of_original(keeper, original, order)
    if source is None:
        return ItemOutcome(
            ItemState.PASSED,
            None,
            "no-backup",
            f"{original.path} was changed before and has no backup, so nothing is made of it",
        )
    treatment = sandbox.treat(source, order.recipe, original.width * original.height / 1e6)
    main = treatment.main
    assert isinstance(main, Chosen), "what is shaped is always made"
    made = TreatedOutputs(treatment.outputs, treatment.facts.shown_size)
    like = original.path if original.state != FileState.REMOVED else file.path
    keeper.put_sized(
        file,
        main.data,
        hashlib.sha256(source).digest(),
        like,
        ChangeNote(order.run_id, main.score, {"how": main.how}),
    )
    taken = _write_beside(keeper, order, file, made)
    reports = tuple(report_of(output, taken.get((output.role, output.format))) for output in made.outputs)
    return replace(_outcome(reports, removed=False), shown=made.shown_size)


def _original_of(keeper: Keeper, file: File) -> File:
    with keeper.database.reading() as session:
        found = session.scalars(
            select(File)
            .where(
                File.picture_id == file.picture_id, File.role == FileRole.ORIGINAL, File.size_name.is_(None)
            )
            .where(File.state != FileState.GONE)
            .order_by(File.width.desc(), File.id)
            .limit(1)
        ).first()
    if found is None:
        raise StorageError("gone", f"the picture that {file.path} is made of is not there any more")
    return found


def _source_of_original(keeper: Keeper, original: File, order: TreatOrder) -> bytes | None:
    if original.state == FileState.REMOVED and original.before_sha256 is not None:
        return keeper.backups.get(original.before_sha256)
    size = keeper.store.facts(original.path).size
    if size > order.most_bytes:
        raise TooManyBytes(size, order.most_bytes)
    return source_of(keeper, original, keeper.store.read(original.path))


def _former(size: int, stage: Stage, reports: tuple[dict[str, Any], ...]) -> Former | None:
    """What the stage before made of the file."""
    if stage is not Stage.BESIDE:
        return None
    return Former(size, next((report.get("step") for report in reports if report["role"] == "file"), None))


def _put_in_place(
    keeper: Keeper, order: TreatOrder, file: File, main: Output, source: bytes, current: bytes
) -> None:
    """What takes the file's place, or the original where the recipe leaves the file as it first was."""
    after = main.data if isinstance(main, Chosen) else source
    if after == current:
        return
    note = ChangeNote(
        order.run_id,
        main.score if isinstance(main, Chosen) else None,
        {"how": main.how},
        {
            "level": str(order.recipe.level),
            "recipe": order.key,
            "how": main.how,
            "score": main.score,
            "core": core_version(),
        },
    )
    if after == source:
        keeper.restore(file, note)
    else:
        keeper.replace(
            file,
            current,
            after,
            note,
            backup=order.automation.backups,
            keep_times=order.automation.keep_times,
            store_limit=order.automation.backups_limit,
        )


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
        return current if file.level == Level.EXACT and not _by_hand(keeper, file) else None
    raise StorageError(
        "changed-outside", f"{file.path} was changed by somebody else since we treated it: survey again"
    )


def _by_hand(keeper: Keeper, file: File) -> bool:
    """Whether what stands there was touched up or watermarked: then not even exact shows the original."""
    ours = Result.library_id == file.library_id, Result.sha256 == file.sha256
    with keeper.database.reading() as session:
        made = session.scalar(select(Result.made).where(*ours)) or {}
    return bool({"touches", "watermark"} & (made.get("recipe") or {}).keys())


def _outcome(reports: tuple[dict[str, Any], ...], removed: bool) -> ItemOutcome:
    # Leaner forms promise less, to those who asked for less.
    whole = [report for report in reports if report["role"] != Purpose.SAVE_DATA]
    chosen = [report for report in whole if report["verdict"] == "chosen"]
    main = next((report for report in chosen if report["role"] == "file"), None)
    places = [report["worst_place"] for report in chosen if report["worst_place"] is not None]
    state = FileState.REMOVED if removed else FileState.LIGHTER if chosen else FileState.KEPT
    return ItemOutcome(
        ItemState.DONE if chosen else ItemState.PASSED,
        state,
        None if chosen else "nothing-smaller",
        None if chosen else "it is as small as it gets at this level",
        min((report["score"] for report in chosen if report["score"] is not None), default=None),
        reports,
        how=main["how"] if main else None,
        worst_place=main["worst_place"] if main else None,
        worst=min((worst_place["score"] for worst_place in places), default=None),
    )


def _write_beside(
    keeper: Keeper, order: TreatOrder, file: File, made: TreatedOutputs
) -> dict[tuple[str, str], str]:
    """Writes the copies and conversions that were chosen and drops those that were not; says which names
    are taken."""
    file = _again(keeper, file)
    width, height = made.shown_size
    taken: dict[tuple[str, str], str] = {}
    chosen = {(output.role, output.format): output for output in made.beside}
    keeper.drop_all_derived(file, ChangeNote(order.run_id), keep=frozenset(chosen))
    for key, output in chosen.items():
        beside = Beside(
            Purpose(output.role),
            output.format,
            FORMATS[output.format].ending,
            width,
            height,
            output.how,
            _plain_worst_place(output.worst_place),
        )
        try:
            keeper.write_derived(file, beside, output.data, ChangeNote(order.run_id, output.score))
        except StorageError as error:
            if error.code not in _NO_ROOM:
                raise
            taken[key] = str(error)
    _make_way(keeper, order, file)
    return taken


def _make_way(keeper: Keeper, order: TreatOrder, file: File) -> None:
    """Takes the first file away when the recipe says so, its conversion stands and a backup keeps it."""
    if order.settings.conversions.first_file is not FirstFile.REMOVE or not order.automation.backups:
        return
    file = _again(keeper, file)
    if file.conversion is not None and file.state != FileState.REMOVED:
        note = ChangeNote(order.run_id, detail={"now": file.conversion.path})
        keeper.withdraw(file, keeper.store.read(file.path), note)


def _again(keeper: Keeper, file: File) -> File:
    with keeper.database.reading() as session:
        return session.get_one(File, file.id)


def _removed(keeper: Keeper, file: File) -> bool:
    with keeper.database.reading() as session:
        return session.scalar(select(File.state).where(File.id == file.id)) == FileState.REMOVED


def _plain_worst_place(worst_place: WorstPlace | None) -> dict[str, Any] | None:
    return None if worst_place is None else asdict(worst_place) | {"lost": worst_place.lost.hex()}


def trial_output(output: Output, *, whole: bool) -> TrialOutput:
    """An output that was only tried, with its file where it is ``whole``."""
    refused = output if isinstance(output, Refused) else None
    return TrialOutput(
        role=output.role,
        format=output.format,
        verdict=refused.verdict if refused else "chosen",
        reason=refused.reason if refused else CHOSEN,
        size=output.size,
        score=None if output.score is None else round(output.score, 2),
        worst=None if output.worst_place is None else round(output.worst_place.score, 2),
        how=output.how,
        data=base64.b64encode(output.data).decode() if whole and isinstance(output, Chosen) else None,
    )


def report_of(output: Output, taken: str | None) -> dict[str, Any]:
    """An output as the records keep it. ``taken``: why its name could not be had."""
    verdict, reason = "chosen", CHOSEN
    if taken is not None:
        verdict, reason = "name-taken", taken
    elif isinstance(output, Refused):
        verdict, reason = output.verdict, output.reason
    return {
        "format": output.format,
        "role": output.role,
        "verdict": verdict,
        "reason": reason,
        "size": output.size,
        "score": None if output.score is None else round(output.score, 2),
        "worst_place": _plain_worst_place(output.worst_place),
        "how": output.how,
        "step": output.step,
    }
