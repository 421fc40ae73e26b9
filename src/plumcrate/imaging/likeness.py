"""Which files show the same picture as a larger one, by their fingerprints.

Two files show the same where no place differs by more than scaling and compression explain. A picture that
was cut or turned shows something else.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass
from itertools import combinations

import numpy as np
import numpy.typing as npt

#: A side of a fingerprint's grid of luma, and of those of Cb and Cr.
FINE, COARSE = 16, 4
#: Bytes of a fingerprint: luma, then Cb and Cr.
LENGTH = FINE * FINE + 2 * COARSE * COARSE
#: Root mean squares of differences up to which two files show the same, of luma and of chroma.
_LUMA, _CHROMA = 4.0, 4.0
#: What else fits must differ from the best by so many times as much, or nobody can tell which it is.
_CLEARLY = 2.5
#: A picture whose luma varies less than this shows too little to be known by.
_LEAST_SHOWN = 7.0
#: Bits of the index that are near their limit are tried both ways, at most so many.
_NEAR, _MOST_NEAR = 6.0, 5
#: A file has its original's shape but for rounding, in pixels.
_ROUNDED = 1.5
#: At most so many that have the same bits are compared.
_MOST_ALIKE = 400

F32 = npt.NDArray[np.float32]


@dataclass(frozen=True, slots=True)
class Fingerprint:
    """A file with its size in pixels, as it is seen, and its fingerprint."""

    name: str
    width: int
    height: int
    data: bytes


class Originals:
    """Finds the originals of smaller files among those that were added. Its time grows with the number of
    files, not with its square: a file is compared with those of like brightness in its sixteen parts."""

    def __init__(self) -> None:
        self._known: dict[int, list[Fingerprint]] = defaultdict(list)

    def add(self, file: Fingerprint) -> bool:
        """Whether it shows enough to be known by."""
        values = _values(file)
        if float(values[: FINE * FINE].std()) < _LEAST_SHOWN:
            return False
        self._known[next(_keys(values))].append(file)
        return True

    def original_of(self, file: Fingerprint) -> Fingerprint | None:
        """The largest of those that show the same, where it is larger; None too where several differ from
        it about as little and from each other more."""
        values = _values(file)
        found: list[tuple[float, Fingerprint, F32]] = []
        for key in _keys(values):
            for other in self._known.get(key, ())[:_MOST_ALIKE]:
                if not _may_be_of(file, other):
                    continue
                theirs = _values(other)
                apart = _apart(values, theirs)
                if apart <= _CLEARLY:
                    found.append((apart, other, theirs))
        found.sort(key=lambda one: one[0])
        if not found or found[0][0] > 1.0:
            return None
        best = found[0][2]
        same = [one for one in found if _apart(best, one[2]) <= 1.0]
        others = [apart for apart, _, theirs in found if _apart(best, theirs) > 1.0]
        if others and others[0] < _CLEARLY * max(found[0][0], 0.4):
            return None
        return max(same, key=lambda one: (one[1].width * one[1].height, one[1].name))[1]


def _values(file: Fingerprint) -> F32:
    return np.frombuffer(file.data, np.uint8).astype(np.float32)


def _apart(first: F32, second: F32) -> float:
    """How far two fingerprints are from each other; up to 1 they show the same."""
    squares = (first - second) ** 2
    luma = np.sqrt(squares[: FINE * FINE].mean()) / _LUMA
    return float(max(luma, np.sqrt(squares[FINE * FINE :].mean()) / _CHROMA))


def _may_be_of(file: Fingerprint, other: Fingerprint) -> bool:
    """Whether the other is larger and of the same shape."""
    if other.name == file.name or other.width <= file.width or other.height < file.height:
        return False
    across = abs(other.width * file.height / other.height - file.width)
    down = abs(other.height * file.width / other.width - file.height)
    return min(across, down) <= _ROUNDED


def _keys(values: F32) -> Iterator[int]:
    """The index's number of a fingerprint, then those that it nearly has."""
    step = FINE // COARSE
    parts = values[: FINE * FINE].reshape(COARSE, step, COARSE, step).mean((1, 3)).ravel()
    over = parts - parts.mean()
    key = sum(1 << place for place in range(parts.size) if over[place] > 0)
    near = [int(place) for place in np.argsort(np.abs(over))[:_MOST_NEAR] if abs(over[place]) < _NEAR]
    for count in range(len(near) + 1):
        for places in combinations(near, count):
            yield key ^ sum(1 << place for place in places)
