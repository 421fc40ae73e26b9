"""How often each measure says what the eye says."""

from __future__ import annotations

import hashlib
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray
from rich.console import Console
from rich.table import Table

from plumcrate.imaging.pixels import Pixels
from plumcrate.imaging.scoring import Judge
from plumcrate.imaging.scoring.texture import Texture

from .crops import U8, Crop, load, pair
from .sheets import rows

#: The agreement to reach, and how much of what is around a crop its score is taken of, in pixels.
_GOAL, _AROUND = 0.85, 32
#: The part of a crop's places from which on a change of texture is seen in it.
_HALF = 0.5

F64 = NDArray[np.float64]


def say() -> None:
    made = {crop.number: crop for crop in load()}
    judged = [row for row in rows() if row["result"] and row["pass 1"] and row["pass 2"]]
    same = [row for row in judged if _digest(made[int(row["pair"])]) == row["result"]]
    if len(same) < len(judged):
        print(f"{len(judged) - len(same)} results have changed since they were judged, and are left out")
    passes = np.array([[row["pass 1"] != "0", row["pass 2"] != "0"] for row in same])
    seen = np.array([int(row["pass 1"]) + int(row["pass 2"]) >= 2 for row in same])
    crops = [made[int(row["pair"])] for row in same]
    table = Table(
        "what says that it is seen",
        f"agrees, held out (goal {_GOAL})",
        "of those seen",
        "of the others",
        title=f"{len(same)} crops, a difference seen in {seen.sum()}; both passes agree on "
        f"{(passes[:, 0] == passes[:, 1]).mean():.3f}",
    )
    table.add_row("nothing ever is", f"{(~seen).mean():.3f}", "0 %", "0 %")
    for name, measure in _MEASURES.items():
        said = _held_out(np.array([measure(crop) for crop in crops]), seen)
        _add(table, name, said, seen)
    _add(table, "texture, at its limits", np.array([_texture(crop) for crop in crops]) >= _HALF, seen)
    Console(width=110).print(table)


def _add(table: Table, name: str, said: NDArray[np.bool_], seen: NDArray[np.bool_]) -> None:
    table.add_row(
        name, f"{(said == seen).mean():.3f}", f"{said[seen].mean():.0%}", f"{said[~seen].mean():.0%}"
    )


def _held_out(measured: F64, seen: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """What a limit says of each half of the crops that fits the other half best."""
    half = np.arange(len(seen)) // 2 % 2 == 0
    said = np.zeros(len(seen), np.bool_)
    for fitted in (half, ~half):
        limits = np.append(np.unique(measured[fitted]), np.inf)
        agrees = [((measured[fitted] >= limit) == seen[fitted]).mean() for limit in limits]
        said[~fitted] = measured[~fitted] >= limits[int(np.argmax(agrees))]
    return said


def _digest(crop: Crop) -> str:
    return hashlib.sha256(_window(crop)[1].tobytes()).hexdigest()[:16]


def _window(crop: Crop, around: int = 0) -> tuple[U8, U8]:
    """A crop of the original and of the result."""
    top, left = max(crop.top - around, 0), max(crop.left - around, 0)
    window = np.s_[top : crop.top + crop.side + around, left : crop.left + crop.side + around]
    first, second = pair(crop.number)
    return np.ascontiguousarray(first[window]), np.ascontiguousarray(second[window])


def _score(crop: Crop) -> float:
    first, second = _window(crop, _AROUND)
    return -Judge(Pixels(first)).score(Pixels(second))


def _worst(crop: Crop) -> float:
    first, second = _window(crop, _AROUND)
    return -Judge(Pixels(first)).judge(Pixels(second)).worst


def _grain_lost(crop: Crop) -> float:
    first, second = _window(crop)
    return 1 - Texture(first).judge(second).kept


def _tint(crop: Crop) -> float:
    first, second = _window(crop, _AROUND)
    return Judge(Pixels(first)).flatness(Pixels(second)).tint


def _texture(crop: Crop) -> float:
    first, second = _window(crop)
    return Texture(first).judge(second).seen


_MEASURES: dict[str, Callable[[Crop], float]] = {
    "score": _score,
    "worst place": _worst,
    "grain lost": _grain_lost,
    "tint of dark ground": _tint,
}
