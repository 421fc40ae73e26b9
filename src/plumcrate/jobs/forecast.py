"""Forecasting the saving: a measured sample is treated in memory, the rest is reckoned from it.

Of large pictures the middle is treated, so that a minute is enough to see some of every kind. What the
sample took says how long a run would take here; one file of each kind is treated with every effort, so that
they can be compared.

The files that a recipe would treat are put into strata by format and size; each stratum gives a sample in
proportion to its bytes, at random from a seed that the forecast's number makes. Within a stratum the sizes
afterwards are reckoned by the ratio of sums; the interval is a bootstrap's over the sample, widened by the
share of each stratum that was not seen (B. Efron, R. Tibshirani, An Introduction to the Bootstrap, 1993).
"""

from __future__ import annotations

import hashlib
import math
import random
import time
from collections import defaultdict
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from pydantic import BaseModel
from sqlalchemy import and_, func, select
from sqlalchemy.orm import Session

from plumcrate.contract.jobs import EffortOutlook, ForecastRequest, JobKind, Outlook, Range
from plumcrate.contract.recipes import RecipeSettings
from plumcrate.deciding.decision import Variant, core_recipe, variant_of, variants
from plumcrate.deciding.planning import NO_ORIGINAL, PRESENT, left_alone, settings_of
from plumcrate.imaging import Effort, ImagingError
from plumcrate.imaging.outcome import Measured
from plumcrate.keeping.keeper import Keeper
from plumcrate.records.database import Database
from plumcrate.records.queries.libraries import current_recipe
from plumcrate.records.tables import File, Job, Library, Picture
from plumcrate.refusal import Refusal
from plumcrate.runs.treating import source_of
from plumcrate.sandbox.children import SandboxError
from plumcrate.storage.errors import NotThere, StorageError

from .long_work import OPEN, Stopped

if TYPE_CHECKING:
    from plumcrate.imaging import Recipe

_ROUNDS = 2000
#: Borders between sizes of files, in bytes.
_SIZES = (20_000, 100_000, 400_000, 1_500_000, 6_000_000)
#: At least so many files of a stratum are looked at, as far as time goes.
_LEAST = 2
#: A forecast needs so many files. Kinds that were not looked at may hold this part of all bytes.
_LEAST_IN_ALL, _UNKNOWN = 8, 0.25

#: What a treatment would save and take, for a file's bytes, a recipe and megapixels.
Measure = Callable[[bytes, "Recipe", float], Measured]
#: Efforts are compared on one file of each stratum, as long as this part of the time is not over.
_COMPARED = 0.15


@dataclass(frozen=True, slots=True)
class _SampledFile:
    file_id: int
    size: int
    megapixels: float
    variant: int


_Key = tuple[str, int]
_Strata = dict[_Key, list[_SampledFile]]


#: So many forecasts one person may have under way.
_MOST_OPEN = 3


class ForecastOrder(BaseModel):
    """What a forecast is made of: settings of a version of the recipe, and how long to sample."""

    recipe: RecipeSettings
    recipe_version: int
    seconds: float


def forecast_order(session: Session, library: Library, request: ForecastRequest, by: str) -> ForecastOrder:
    """A forecast of the recipe in use. Raises :class:`Refusal` when somebody has too many under way."""
    theirs = Job.by == by, Job.kind == JobKind.FORECAST, Job.state.in_(OPEN)
    if (session.scalar(select(func.count()).select_from(Job).where(*theirs)) or 0) >= _MOST_OPEN:
        raise Refusal("too-many", f"you have {_MOST_OPEN} forecasts under way; stop one, or wait")
    recipe = current_recipe(session, library.id)
    return ForecastOrder(recipe=settings_of(recipe), recipe_version=recipe.version, seconds=request.seconds)


def forecast(
    database: Database,
    keeper: Keeper,
    library: Library,
    settings: RecipeSettings,
    *,
    number: int,
    seconds: float,
    measure: Measure,
    at_a_time: int,
    most_bytes: int = 300_000_000,
    stopped: Callable[[], bool] = lambda: False,
) -> Outlook:
    """What treating the library's files with these settings is expected to leave. Writes nothing.

    Sizes are against the originals, also of files that were treated already. Raises NotThere, and
    :class:`Stopped` when somebody stopped it.
    """
    began = time.monotonic()
    ways = variants(settings, library.surveyed_at)
    strata = _strata(database, library.id, ways)
    chance = random.Random(hashlib.sha256(f"forecast {number}".encode()).digest())
    order = _order(strata, chance)
    seen: dict[_Key, list[Measured]] = defaultdict(list)
    compared: list[dict[Effort, Measured]] = []

    def one(key: _Key, candidate: _SampledFile) -> None:
        if time.monotonic() - began > seconds or candidate.size > most_bytes:
            return
        if stopped():
            raise Stopped
        recipe = ways[candidate.variant].recipe
        assert recipe is not None
        compares = not seen[key] and time.monotonic() - began < _COMPARED * seconds
        efforts = [recipe.effort, *(effort for effort in Effort if compares and effort is not recipe.effort)]
        results = {
            effort: result
            for effort in efforts
            if (result := _treated(database, keeper, candidate, replace(recipe, effort=effort), measure))
        }
        if recipe.effort in results:
            seen[key].append(results[recipe.effort])
        if len(results) == len(Effort):
            compared.append(results)

    with ThreadPoolExecutor(at_a_time) as pool:
        for _ in pool.map(lambda pair: one(*pair), order):
            pass
    after, lightest = _reckon(strata, seen, number)
    run_seconds = _length(strata, seen) / at_a_time
    sample = [one for results in seen.values() for one in results]
    return Outlook(
        files=sum(len(candidates) for candidates in strata.values()),
        bytes_before=sum(one.size for candidates in strata.values() for one in candidates),
        sampled_files=len(sample),
        sampled_bytes=sum(one.before for one in sample),
        bytes_after=after,
        bytes_lightest=lightest,
        seconds=round(time.monotonic() - began, 1),
        wanted_seconds=_wanted(strata, seen, time.monotonic() - began),
        run_seconds=round(run_seconds, 1),
        efforts=_efforts(compared, run_seconds, after, lightest, core_recipe(settings).effort),
    )


def _is_known(candidates: list[_SampledFile], looked_at: Sequence[Measured]) -> bool:
    return len(looked_at) >= min(_LEAST, len(candidates))


def _wanted(strata: _Strata, seen: dict[_Key, list[Measured]], seconds: float) -> float | None:
    """For how long to sample instead, in seconds; None when enough of what weighs was looked at."""
    weights = {key: sum(one.size for one in candidates) for key, candidates in strata.items()}
    unknown = [key for key, candidates in strata.items() if not _is_known(candidates, seen.get(key, []))]
    looked_at = sum(map(len, seen.values()))
    files = sum(map(len, strata.values()))
    few = looked_at < min(_LEAST_IN_ALL, files)
    if not few and sum(weights[key] for key in unknown) <= _UNKNOWN * max(sum(weights.values()), 1):
        return None
    lacking = sum(min(_LEAST, len(strata[key])) - len(seen.get(key, [])) for key in unknown)
    lacking = max(lacking, _LEAST_IN_ALL - looked_at if few else 0)
    each = seconds / looked_at if looked_at else seconds
    return float(round(min(3_600.0, max(2 * seconds, seconds + 1.5 * lacking * each, 60.0)), -1))


def _length(strata: _Strata, seen: dict[_Key, list[Measured]]) -> float:
    """How long all files of all strata would take one after the other, in seconds: by the mean of those of
    their kind that were looked at, or of all where none was."""
    everything = [sample for some in seen.values() for sample in some]
    if not everything:
        return 0.0
    total = 0.0
    for key, candidates in strata.items():
        some = seen.get(key) or everything
        # By bytes, as sizes are: a stratum's files differ by a factor of four.
        rate = sum(sample.seconds for sample in some) / max(sum(sample.before for sample in some), 1)
        total += rate * sum(candidate.size for candidate in candidates)
    return total


def _efforts(
    compared: list[dict[Effort, Measured]], seconds: float, after: Range, lightest: Range, own: Effort
) -> list[EffortOutlook]:
    """What each effort would take and leave, by the files that were treated with all of them; ``seconds``,
    ``after`` and ``lightest`` are of the recipe's ``own``. Empty where none was."""
    if not compared:
        return []

    def part(effort: Effort, name: str) -> float:
        theirs, ours = (sum(getattr(results[one], name) for results in compared) for one in (effort, own))
        return float(theirs / ours) if ours else 1.0

    return [
        EffortOutlook(
            effort=str(effort),
            run_seconds=round(seconds * part(effort, "seconds"), 1),
            bytes_after=round(after.expected * part(effort, "after")),
            bytes_lightest=round(lightest.expected * part(effort, "lightest")),
        )
        for effort in Effort
    ]


def _strata(database: Database, library_id: int, ways: list[Variant]) -> _Strata:
    number = variant_of(ways)
    with database.begin() as session:
        rows = session.execute(
            select(File.id, File.format, File.size_before, File.width * File.height, number)
            .join(Picture, Picture.id == File.picture_id)
            .where(File.library_id == library_id, PRESENT, File.format.is_not(None), File.size_name.is_(None))
            .where(and_(~left_alone(ways, number), ~NO_ORIGINAL))
        ).all()
    strata: _Strata = defaultdict(list)
    for file_id, kind, size, pixels, variant in rows:
        border = sum(size >= limit for limit in _SIZES)
        strata[(kind or "", border)].append(_SampledFile(file_id, size, pixels / 1e6, variant))
    return dict(strata)


def _order(strata: _Strata, chance: random.Random) -> list[tuple[_Key, _SampledFile]]:
    """In which order files are looked at: one of each stratum, the cheap before the dear, then a second;
    then by the bytes they stand for against what they cost (W. Cochran, Sampling Techniques, 5.5)."""
    turns: list[tuple[tuple[int, float], _Key, _SampledFile]] = []
    for key, candidates in sorted(strata.items()):
        shuffled = candidates[:]
        chance.shuffle(shuffled)
        weight = sum(one.size for one in candidates)
        cost = sum(min(one.megapixels, 3.0) for one in candidates) / len(candidates) + 0.1
        for place, candidate in enumerate(shuffled[:400]):
            share = (place + 0.5) * math.sqrt(cost) / max(weight, 1)
            turn = (place, candidate.megapixels) if place < _LEAST else (_LEAST, share)
            turns.append((turn, key, candidate))
    turns.sort(key=lambda one: one[0])
    return [(key, candidate) for _, key, candidate in turns]


def _treated(
    database: Database, keeper: Keeper, candidate: _SampledFile, recipe: Recipe, measure: Measure
) -> Measured | None:
    with database.begin() as session:
        file = session.get(File, candidate.file_id)
    if file is None:
        return None
    try:
        source = source_of(keeper, file, keeper.store.read(file.path))
        if source is None:
            return None
        return measure(source, recipe, candidate.megapixels)
    except (ImagingError, SandboxError):
        # It would be left as it is.
        return Measured(file.size_before, file.size_before, file.size_before, 0.0)
    except NotThere:
        raise
    except StorageError:
        return None


def _reckon(strata: _Strata, seen: dict[_Key, list[Measured]], number: int) -> tuple[Range, Range]:
    """Expected sums over all strata with the interval that holds them nine times in ten."""
    import numpy as np  # when a forecast is made, and not with every worker

    chance = np.random.default_rng(number)
    everything = np.array(
        [[sample.before, sample.after, sample.lightest] for some in seen.values() for sample in some], float
    )
    total = sum(sample.size for candidates in strata.values() for sample in candidates)
    if not len(everything):
        unknown = Range(low=0, expected=total, high=total)
        return unknown, unknown
    expected = np.zeros(2)
    spread = np.zeros((_ROUNDS, 2))
    for key, candidates in strata.items():
        weight = float(sum(sample.size for sample in candidates))
        some = np.array(
            [[sample.before, sample.after, sample.lightest] for sample in seen.get(key, [])], float
        )
        own = len(some)
        if own < _LEAST and own < len(candidates):
            some = everything  # too few of its kind: all kinds together, with all their spread
        ratios = some[:, 1:].sum(axis=0) / some[:, 0].sum()
        expected += weight * ratios
        unseen = max(0.0, 1 - own / len(candidates))
        if unseen:
            picks = chance.integers(0, len(some), (_ROUNDS, len(some)))
            drawn = some[picks]
            rounds = drawn[:, :, 1:].sum(axis=1) / drawn[:, :, 0].sum(axis=1)[:, None]
            small = np.sqrt((len(some) + 1) / max(len(some) - 1, 1))  # a bootstrap of few is too narrow
            spread += weight * (rounds - ratios) * small * np.sqrt(unseen)
    low, high = np.percentile(spread, [5, 95], axis=0)
    if len(everything) < _LEAST_IN_ALL and len(everything) < sum(map(len, strata.values())):
        # Of so few even the spread is not known.
        low, high = -expected, total - expected
    ranges = [
        Range(low=max(0, round(middle + less)), expected=round(middle), high=round(middle + more))
        for middle, less, more in zip(expected, low, high, strict=True)
    ]
    return ranges[0], ranges[1]
