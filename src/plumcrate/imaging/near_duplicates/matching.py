"""Whether two hashes are of near duplicates, and how one picture lies in the other."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from .perceptual import THUMBNAIL, PerceptualHash

F64 = NDArray[np.float64]

#: Bits up to which two features may be the same place.
_NEAR_BITS = 15
#: How far from its counterpart a feature may fall, in parts of the second picture's longer side.
_REACH = 0.025
#: Of scales, octaves; of directions, turns, up to which two features fit a transform.
_SCALE, _TURN = 0.6, 0.06
#: Larger changes of size than this are not looked for.
_MOST_SCALE = 6.0
#: A transform that carries fewer features onto others is chance.
_LEAST_FEATURES = 4
#: Parts of a picture a side of which each is looked at, and rounds in which a transform is refined.
_CELLS, _ROUNDS = 8, 6
#: One picture lies in the other by so much of its area, and takes up so much of the other's.
_WITHIN, _TAKES_UP = 0.8, 0.3
#: Two pictures are the same by their features: so many, and this part of those that both could show; then
#: the thumbnails correlate so well, and the least alike part differs no more; of a cut, whose thumbnail is
#: finer, the other.
_FEATURES, _OF_FEATURES, _ALIKE, _WORST, _WORST_OF_CUT = 8, 0.25, 0.93, 0.5, 0.75
#: Or by fewer features, where nothing is turned, by degrees; half of each is shown; and they are this alike.
_UPRIGHT, _HALF, _ALIKE_BY_FEW, _WORST_BY_FEW = 5.0, 0.5, 0.995, 0.25
#: Or as wholes, with fewer features or none: both show all of the other, this alike.
_ALL, _ALIKE_AS_WHOLES, _WORST_AS_WHOLES = 0.9, 0.99, 0.2
#: Without features: of one shape, up to this logarithm.
_SHAPE = 0.03
#: A thumbnail whose luma spreads less than this shows too little to be known by.
_LEAST_SPREAD = 6.0
#: Points a side at which two thumbnails are compared.
_GRID = 40


@dataclass(frozen=True, slots=True)
class Match:
    """How the second picture shows the first.

    ``scale``: pixels of the second to one of the first. ``turn``: degrees clockwise. ``of_first`` and
    ``of_second``: which part of each one's area the other shows, 0 to 1. ``alike``: correlation of both
    thumbnails there, up to 1. ``worst``: how far their least alike part differs, in standard deviations.
    ``features``: how many places agree; 0 where both were compared as wholes.
    """

    scale: float
    turn: float
    of_first: float
    of_second: float
    alike: float
    worst: float
    features: int


@dataclass(frozen=True, slots=True)
class _Similarity:
    """(x, y) becomes (a x - b y + left, b x + a y + top), in units of the longer sides."""

    a: float
    b: float
    left: float
    top: float

    def applied(self, points: F64) -> F64:
        x, y = points[:, 0], points[:, 1]
        return np.stack([self.a * x - self.b * y + self.left, self.b * x + self.a * y + self.top], 1)

    def inverse(self) -> _Similarity:
        square = self.a**2 + self.b**2
        a, b = self.a / square, -self.b / square
        return _Similarity(a, b, -(a * self.left - b * self.top), -(b * self.left + a * self.top))

    @property
    def size(self) -> float:
        return math.hypot(self.a, self.b)


def matched(first: PerceptualHash, second: PerceptualHash) -> Match | None:
    """How two pictures show the same; None where they do not."""
    for similarity, features in _similarities(first, second):
        found = _agreeing(first, second, similarity, features)
        if found is not None:
            return found
    return _as_wholes(first, second)


def _similarities(first: PerceptualHash, second: PerceptualHash) -> list[tuple[_Similarity, int]]:
    """The transform that carries most features onto others, if enough."""
    if not (len(first.features) and len(second.features)):
        return []
    apart = np.bitwise_count(first.features["bits"][:, None] ^ second.features["bits"][None, :])
    one, other = np.nonzero(apart <= _NEAR_BITS)
    if len(one) < _LEAST_FEATURES:
        return []
    nearest = np.argsort(apart[one, other], kind="stable")[:200]
    one, other = one[nearest], other[nearest]
    here, there = _places(first)[one], _places(second)[other]
    octaves = (second.features["scale"][other].astype(float) - first.features["scale"][one]) / 16
    turns = (second.features["direction"][other].astype(float) - first.features["direction"][one]) / 256
    fits = _fitting(here, there, octaves, turns)
    fits &= (np.abs(octaves) <= math.log2(_MOST_SCALE))[:, None]
    best = int(_distinct(fits, one, other).argmax())
    inliers = fits[best]
    for _ in range(3):
        if min(len(set(one[inliers])), len(set(other[inliers]))) < _LEAST_FEATURES:
            return []
        similarity = _least_squares(here[inliers], there[inliers])
        off = np.hypot(*(similarity.applied(here) - there).T)
        off_scale = np.abs(octaves - math.log2(similarity.size))
        inliers = (off <= _REACH) & (off_scale <= _SCALE)
    count = min(len(set(one[inliers])), len(set(other[inliers])))
    return [(similarity, count)] if count >= _LEAST_FEATURES else []


def _fitting(here: F64, there: F64, octaves: F64, turns: F64) -> NDArray[np.bool_]:
    """For each pair of features, which pairs its own transform explains."""
    size, angle = np.exp2(octaves), 2 * np.pi * turns
    a, b = size * np.cos(angle), size * np.sin(angle)
    left = there[:, 0] - (a * here[:, 0] - b * here[:, 1])
    top = there[:, 1] - (b * here[:, 0] + a * here[:, 1])
    x = a[:, None] * here[None, :, 0] - b[:, None] * here[None, :, 1] + left[:, None]
    y = b[:, None] * here[None, :, 0] + a[:, None] * here[None, :, 1] + top[:, None]
    near = np.hypot(x - there[None, :, 0], y - there[None, :, 1]) <= 2 * _REACH
    near &= np.abs(octaves[:, None] - octaves[None, :]) <= _SCALE
    turned = (turns[:, None] - turns[None, :] + 0.5) % 1 - 0.5
    return near & (np.abs(turned) <= _TURN)


def _distinct(fits: NDArray[np.bool_], one: NDArray[np.intp], other: NDArray[np.intp]) -> Any:
    """For each row, how many different features of both it carries."""
    counts = []
    for names in (one, other):
        table = np.zeros((len(fits), int(names.max()) + 1), bool)
        for column, name in enumerate(names):
            table[:, name] |= fits[:, column]
        counts.append(table.sum(1))
    return np.minimum(*counts)


def _least_squares(here: F64, there: F64) -> _Similarity:
    """The similarity that carries points onto points best (S. Umeyama, IEEE PAMI 13, 1991), without
    mirroring."""
    from_middle, to_middle = here.mean(0), there.mean(0)
    x, y = (here - from_middle).T
    u, v = (there - to_middle).T
    square = float((x * x + y * y).sum()) or 1.0
    a, b = float((x * u + y * v).sum()) / square, float((x * v - y * u).sum()) / square
    if a == b == 0:
        a = 1.0
    left = to_middle[0] - (a * from_middle[0] - b * from_middle[1])
    top = to_middle[1] - (b * from_middle[0] + a * from_middle[1])
    return _Similarity(a, b, float(left), float(top))


def _sides(picture: PerceptualHash) -> F64:
    longer = max(picture.width, picture.height)
    return np.array([picture.width / longer, picture.height / longer])


def _places(picture: PerceptualHash) -> F64:
    places = np.stack([picture.features["x"], picture.features["y"]], 1) / 65535
    return places * _sides(picture)


def _agreeing(
    first: PerceptualHash, second: PerceptualHash, similarity: _Similarity, features: int
) -> Match | None:
    """The match under a transform, where the thumbnails agree and enough of both is shown."""
    grid = _grid()
    mine, theirs = _sides(first), _sides(second)
    there = similarity.applied(grid * mine) / theirs
    back = similarity.inverse().applied(grid * theirs) / mine
    inside, inside_back = _inside(there), _inside(back)
    of_first, of_second = float(inside.mean()), float(inside_back.mean())
    shared = min(
        int(_inside(similarity.applied(_places(first)) / theirs).sum()),
        int(_inside(similarity.inverse().applied(_places(second)) / mine).sum()),
    )
    if max(of_first, of_second) < _WITHIN or min(of_first, of_second) < _TAKES_UP:
        return None
    similarity = _refined(first, second, similarity)
    there = similarity.applied(grid * mine) / theirs
    inside = _inside(there)
    alike, worst = _alikeness(_shown_at(first, grid[inside]), _shown_at(second, there[inside]), grid[inside])
    scale = similarity.size * max(second.width, second.height) / max(first.width, first.height)
    turn = math.degrees(math.atan2(similarity.b, similarity.a))
    least = min(of_first, of_second)
    furthest = _WORST if least >= _ALL else _WORST_OF_CUT
    by_features = features >= max(_FEATURES, _OF_FEATURES * shared) and alike >= _ALIKE and worst <= furthest
    by_few = abs(turn) <= _UPRIGHT and least >= _HALF and alike >= _ALIKE_BY_FEW and worst <= _WORST_BY_FEW
    if not (by_features or by_few or (least >= _ALL and _as_wholes_alike(alike, worst))):
        return None
    return Match(scale, turn, of_first, of_second, alike, worst, features)


def _refined(first: PerceptualHash, second: PerceptualHash, similarity: _Similarity) -> _Similarity:
    """A transform under which the thumbnails fit better (B. D. Lucas and T. Kanade, IJCAI 1981, with four
    parameters of the transform, gain and offset)."""
    grid, mine, theirs = _grid(), _sides(first), _sides(second)
    values = _shown_at(first, grid)
    x, y = (grid * mine).T
    step = 1 / THUMBNAIL
    aside, under = np.array([step, 0.0]), np.array([0.0, step])
    for _ in range(_ROUNDS):
        there = similarity.applied(grid * mine) / theirs
        inside = _inside(there)
        if inside.sum() < len(grid) / 8:
            break
        at = there[inside]
        shown = _shown_at(second, at)
        right = _shown_at(second, at + aside) - _shown_at(second, at - aside)
        below = _shown_at(second, at + under) - _shown_at(second, at - under)
        across, down = right / (2 * step * theirs[0]), below / (2 * step * theirs[1])
        mx, my = x[inside], y[inside]
        moves = [across * mx + down * my, down * mx - across * my, across, down]
        columns = np.stack([*moves, -values[inside], -np.ones_like(mx)], 1)
        change, *_ = np.linalg.lstsq(columns, -shown, rcond=None)
        a, b, left, top = (float(value) for value in change[:4])
        similarity = _Similarity(
            similarity.a + a, similarity.b + b, similarity.left + left, similarity.top + top
        )
    return similarity


def _alikeness(values: F64, others: F64, points: F64) -> tuple[float, float]:
    """Correlation, and the largest difference in a part of the picture after light and contrast were made
    the same: its root mean square over that of what both show."""
    alike = _correlation(values, others)
    if alike <= 0:
        return alike, math.inf
    rest = (values - values.mean()) / values.std() - (others - others.mean()) / others.std()
    cells = (points * _CELLS).astype(int)
    names = cells[:, 1] * _CELLS + cells[:, 0]
    counts = np.bincount(names, minlength=_CELLS**2)
    sums = np.bincount(names, rest**2, _CELLS**2)
    return alike, float(np.sqrt((sums / np.maximum(counts, 4)).max()))


def _as_wholes(first: PerceptualHash, second: PerceptualHash) -> Match | None:
    if min(float(one.thumbnail.std()) for one in (first, second)) < _LEAST_SPREAD:
        return None
    for quarters in range(4):
        width, height = (first.width, first.height) if quarters % 2 == 0 else (first.height, first.width)
        if abs(math.log(width / height * second.height / second.width)) > _SHAPE:
            continue
        turned = np.rot90(first.thumbnail, -quarters)
        grid = _grid()
        values = _shown_at(replace(first, thumbnail=turned), grid)
        alike, worst = _alikeness(values, _shown_at(second, grid), grid)
        if _as_wholes_alike(alike, worst):
            return Match(second.width / width, 90.0 * quarters, 1.0, 1.0, alike, worst, 0)
    return None


def _as_wholes_alike(alike: float, worst: float) -> bool:
    return alike >= _ALIKE_AS_WHOLES and worst <= _WORST_AS_WHOLES


def _grid() -> F64:
    line = (np.arange(_GRID) + 0.5) / _GRID
    return np.stack([part.ravel() for part in np.meshgrid(line, line)], 1)


def _inside(points: F64) -> NDArray[np.bool_]:
    inside: NDArray[np.bool_] = np.all((points >= 0) & (points <= 1), axis=1)
    return inside


def _shown_at(picture: PerceptualHash, points: F64) -> F64:
    """The thumbnail's values at points of 0 to 1, bilinear."""
    at = np.clip(points * THUMBNAIL - 0.5, 0, THUMBNAIL - 1.001)
    column, row = at.astype(np.int64).T
    right, below = (at - np.stack([column, row], 1)).T
    values = picture.thumbnail.astype(float)
    top = values[row, column] * (1 - right) + values[row, column + 1] * right
    bottom = values[row + 1, column] * (1 - right) + values[row + 1, column + 1] * right
    shown: F64 = top * (1 - below) + bottom * below
    return shown


def _correlation(first: F64, second: F64) -> float:
    first, second = first - first.mean(), second - second.mean()
    length = float(np.sqrt((first**2).sum() * (second**2).sum()))
    return float((first * second).sum()) / length if length > 0 else 0.0
