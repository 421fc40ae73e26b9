"""A third measure, for what is drawn: flat colours stay, and smooth ground gets no bands.

Charts, logos and interface shots are made of even areas and soft shadows. A mean over the picture forgives
there what anybody sees: a bar in its neighbour's colour, a shadow in steps. So

* every colour that covers half a per cent or more of a picture in connected areas must stay within 1 in
  CIEDE2000 (ISO/CIE 11664-6; G. Sharma, W. Wu, E. Dalal, Color Research and Application 30 (1), 2005), on
  the mean of its areas and nearly everywhere in them;
* where the source is smooth, the error must not jump. Its mean is compared on either side of a place, over
  eight pixels across and nine along, in CIE L*a*b*: bands jump there, dithering and slow drift do not;
* where the source is calm on both sides of an edge of the blocks that codecs cut a picture into, no block may
  have a shade of its own: the error's mean over four pixels before the edge and four behind is compared;
* where the source is dark and quiet, no place may be tinted: codecs that halve chroma and spare its bits
  there leave green and brown blots, which a dark page shows. The error's mean over blocks of eight pixels is
  looked at in a* and b*.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..srgb import LIGHT
from .colour import lab_response

U8 = NDArray[np.uint8]
U32 = NDArray[np.uint32]
F32 = NDArray[np.float32]

#: The part of a picture from which on a flat colour must stay.
LEAST_AREA = 0.005
#: CIEDE2000 by which single pixels of a flat colour may move before they have strayed.
_STRAYED = 2.5
#: The part of the smooth places that may jump further than what is told.
_JUMPS = 0.01
#: How much a jump of L*, a* and b* counts: bands of lightness are seen first.
_SEEN = np.array([1.0, 0.5, 0.5], np.float32)
#: Neighbours on smooth ground differ by less in L*, and lie so near to the line between theirs.
_SLOPE, _GRAIN = 3.0, 0.6
#: Smooth places are looked at when they are such a part of a picture, and so many.
_LEAST_SMOOTH, _FEWEST_SMOOTH = 0.002, 400
_SAMPLED = 1_000_000
#: Blocks that codecs cut a picture into, at most; one is calm whose neighbouring pixels differ by less than
#: this on the mean, in L*, a* or b*; the part of calm edges that may show more than what is told, and how
#: many calm edges there must be.
_BLOCK, _CALM, _SEAMS, _FEWEST_SEAMS = 16, 0.8, 0.01, 60
#: Blocks of so many pixels are dark below such a mean L*, and quiet where neighbours differ by less than this
#: in L*, a* and b*; the part of them that may be tinted further than what is told, and the fewest that count.
_TINTED, _DARK, _QUIET, _TINTS, _FEWEST_DARK = 8, 40.0, 2.5, 0.001, 60
#: Rows that are looked at together, and the rows around a place that its jump is reckoned from.
_STRIP, _AROUND = 512, 4
_BINS, _BIN = 400, 0.05
#: The label of what is in no flat area.
NO_LABEL = 255


@dataclass(frozen=True, slots=True)
class Flatness:
    """How drawn parts fare, or may. ``moved``: the worst flat colour's CIEDE2000; ``strayed``: the largest
    part of one colour's pixels that is far from it, 0 to 1; ``jump``: what all but the worst places stay
    below on smooth ground; ``grain``: the mean error there; both in L*a*b* with a* and b* halved. ``seam``:
    what all but the worst edges between calm blocks stay below, in L*a*b*. ``tint``: what all but the worst
    dark quiet blocks stay below, in a*b*.
    """

    moved: float = 0.0
    strayed: float = 0.0
    jump: float = 0.0
    grain: float = 0.0
    seam: float = 0.0
    tint: float = 0.0

    def within(self, limit: Flatness) -> bool:
        """Whether nothing goes further than a limit."""
        return (
            self.moved <= limit.moved
            and self.strayed <= limit.strayed
            and self.jump <= limit.jump
            and self.grain <= limit.grain
            and self.seam <= limit.seam
            and self.tint <= limit.tint
        )


class FlatGround:
    """The flat colours and the smooth places of an opaque picture, (height, width, 3) uint8."""

    def __init__(self, rgb: U8) -> None:
        self._rgb = np.ascontiguousarray(rgb)
        packed = pack(self._rgb)
        colours = flat_colours(packed, LEAST_AREA)
        self._labels = labelled(packed, colours)
        del packed  # as large as the picture
        self.colours: U8 = colours.view(np.uint8).reshape(-1, 4)[:, :3]
        self._smooth = np.zeros(rgb.shape[:2], np.bool_)
        self._calm = np.zeros((rgb.shape[0] // _BLOCK, rgb.shape[1] // _BLOCK), np.bool_)
        self._dark = np.zeros((rgb.shape[0] // _TINTED, rgb.shape[1] // _TINTED), np.bool_)
        for top, bottom, first, last in _strips(rgb.shape[0]):
            lab = _lab(self._rgb[first:last])
            smooth = np.zeros(lab.shape[1:], np.bool_)
            _find_smooth(lab[0], smooth)
            self._smooth[top:bottom] = smooth[top - first : bottom - first]
            _find_calm(lab, top - first, self._calm[top // _BLOCK : bottom // _BLOCK])
            _find_dark(lab, top - first, self._dark[top // _TINTED : bottom // _TINTED])
        smooth_places = int((self._smooth & (self._labels == NO_LABEL)).sum())
        calm_edges = (self._calm[1:] & self._calm[:-1]).sum() + (self._calm[:, 1:] & self._calm[:, :-1]).sum()
        self._looks_at_seams = int(calm_edges) >= _FEWEST_SEAMS
        self._looks_at_tints = int(self._dark.sum()) >= _FEWEST_DARK
        self._looks_at_bands = smooth_places >= max(_FEWEST_SMOOTH, _LEAST_SMOOTH * self._smooth.size)

    @property
    def plain(self) -> bool:
        """Whether there is nothing to look at: no flat colour, no smooth, no calm and no dark place."""
        looks = self._looks_at_bands or self._looks_at_seams or self._looks_at_tints
        return not len(self.colours) and not looks

    def judge(self, rgb: U8) -> Flatness:
        """A candidate of the same shape."""
        if self.plain:
            return Flatness()
        count = len(self.colours)
        sums, strayed = np.zeros((count, 4)), np.zeros(count)
        histogram, seams, tints = (np.zeros(_BINS, np.int64) for _ in range(3))
        grain = np.zeros(2)
        own = _lab(np.ascontiguousarray(self.colours).reshape(1, -1, 3))[:, 0].T
        for top, bottom, first, last in _strips(rgb.shape[0]):
            theirs = _lab(np.ascontiguousarray(rgb[first:last]))
            if count:
                inside = slice(top - first, bottom - first)
                _gather(theirs[:, inside], self._labels[top:bottom], own, sums, strayed)
            if self._looks_at_bands or self._looks_at_seams or self._looks_at_tints:
                theirs -= _lab(self._rgb[first:last])
            if self._looks_at_seams:
                _find_seams(theirs, top - first, self._calm, top // _BLOCK, bottom // _BLOCK, seams)
            if self._looks_at_tints:
                dark = self._dark[top // _TINTED : bottom // _TINTED]
                _find_tints(theirs[1:], top - first, dark, tints)
            if self._looks_at_bands:
                theirs *= _SEEN[:, None, None]
                rows = slice(first, last)
                _jumps(
                    theirs,
                    self._smooth[rows],
                    self._labels[rows],
                    top - first,
                    bottom - first,
                    histogram,
                    grain,
                )
        moved = [
            ciede2000(own[number].astype(np.float64), sums[number, :3] / sums[number, 3])
            for number in range(count)
            if sums[number, 3]
        ]
        shares = strayed / np.maximum(sums[:, 3], 1)
        return Flatness(
            max(moved, default=0.0),
            float(shares.max(initial=0.0)),
            _percentile(histogram, 1 - _JUMPS),
            float(grain[0] / max(grain[1], 1)),
            _percentile(seams, 1 - _SEAMS),
            _percentile(tints, 1 - _TINTS),
        )


def _strips(height: int) -> list[tuple[int, int, int, int]]:
    """Rows of each strip, and the rows around them that are needed."""
    return [
        (top, min(top + _STRIP, height), max(0, top - _AROUND), min(top + _STRIP + _AROUND, height))
        for top in range(0, height, _STRIP)
    ]


def _percentile(histogram: NDArray[np.int64], part: float) -> float:
    total = int(histogram.sum())
    if not total:
        return 0.0
    return float(np.searchsorted(np.cumsum(histogram), part * total) * _BIN)


def pack(colours: U8) -> U32:
    """Colours (..., 3 or 4) as single figures, opaque where no alpha is given."""
    if colours.shape[-1] == 3:
        opaque = np.full((*colours.shape[:-1], 4), 255, np.uint8)
        opaque[..., :3] = colours
        colours = opaque
    return np.ascontiguousarray(colours).view(np.uint32)[..., 0]


def flat_colours(packed: U32, least: float) -> U32:
    """The colours that cover at least such a part of a packed picture, the largest first.

    What counts are corners of 2 x 2 pixels of one colour, on every so many rows of a large picture.
    """
    every = max(1, packed.size // _SAMPLED)
    here, below = packed[:-1][::every], packed[1:][::every]
    if not here.size or here.shape[1] < 2:
        return np.zeros(0, np.uint32)
    first = here[:, :-1]
    flat = (first == here[:, 1:]) & (first == below[:, :-1]) & (first == below[:, 1:])
    colours, counts = np.unique(first[flat], return_counts=True)
    large = counts >= least * flat.size
    order = np.argsort(-counts[large], kind="stable")
    return np.asarray(colours[large][order][: NO_LABEL - 1])


def labelled(packed: U32, colours: U32) -> U8:
    """Each pixel's number among the colours where it is in a 2 x 2 block of one, :data:`NO_LABEL`
    elsewhere."""
    labels = np.full(packed.shape, NO_LABEL, np.uint8)
    _label(packed, colours, labels)
    return labels


@njit(cache=True, nogil=True)
def _label(packed: U32, colours: U32, labels: U8) -> None:
    for y in range(packed.shape[0] - 1):
        last = 0
        for x in range(packed.shape[1] - 1):
            here = packed[y, x]
            if here != packed[y, x + 1] or here != packed[y + 1, x] or here != packed[y + 1, x + 1]:
                continue
            for n in range(colours.size):
                number = (last + n) % colours.size
                if colours[number] == here:
                    labels[y : y + 2, x : x + 2] = number
                    last = number
                    break


def _lab(rgb: U8) -> F32:
    """L*, a* and b* of a picture (height, width, 3), as planes (3, height, width)."""
    out = np.empty((3, *rgb.shape[:2]), np.float32)
    _to_lab(rgb, LIGHT, out)
    return out


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _to_lab(rgb: U8, curve: F32, out: F32) -> None:
    height, width, _ = rgb.shape
    light = np.empty((3, width), np.float32)
    for y in range(height):
        for x in range(width):
            light[0, x] = curve[rgb[y, x, 0]]
            light[1, x] = curve[rgb[y, x, 1]]
            light[2, x] = curve[rgb[y, x, 2]]
        for x in range(width):
            r, g, b = light[0, x], light[1, x], light[2, x]
            fx = lab_response(
                np.float32(0.4339528) * r + np.float32(0.3762196) * g + np.float32(0.1898431) * b
            )
            fy = lab_response(
                np.float32(0.2126729) * r + np.float32(0.7151522) * g + np.float32(0.0721750) * b
            )
            fz = lab_response(
                np.float32(0.0177566) * r + np.float32(0.1094680) * g + np.float32(0.8727755) * b
            )
            out[0, y, x] = np.float32(116) * fy - np.float32(16)
            out[1, y, x] = np.float32(500) * (fx - fy)
            out[2, y, x] = np.float32(200) * (fy - fz)


@njit(cache=True, nogil=True, error_model="numpy")
def _find_smooth(light: F32, smooth: NDArray[np.bool_]) -> None:
    """Finds where lightness runs on evenly: small steps, each near the mean of its neighbours."""
    height, width = light.shape
    for y in range(1, height - 1):
        for x in range(1, width - 1):
            here = light[y, x]
            left, right, up, down = light[y, x - 1], light[y, x + 1], light[y - 1, x], light[y + 1, x]
            slope = max(abs(here - left), abs(here - right), abs(here - up), abs(here - down))
            grain = max(abs(here - (left + right) / 2), abs(here - (up + down) / 2))
            smooth[y, x] = slope < _SLOPE and grain < _GRAIN


@njit(cache=True, nogil=True, error_model="numpy")
def _find_calm(lab: F32, top: int, calm: NDArray[np.bool_]) -> None:
    """Finds blocks in which neighbouring pixels hardly differ; the first block row begins at row ``top``."""
    for row in range(calm.shape[0]):
        for column in range(calm.shape[1]):
            total = np.float32(0)
            for y in range(top + row * _BLOCK, top + (row + 1) * _BLOCK, 2):
                above = max(y - 1, 0)
                for x in range(column * _BLOCK, (column + 1) * _BLOCK):
                    left = max(x - 1, 0)
                    most = np.float32(0)
                    for c in range(3):
                        here = lab[c, y, x]
                        most = max(most, abs(here - lab[c, y, left]), abs(here - lab[c, above, x]))
                    total += most
            calm[row, column] = total < _CALM * _BLOCK * _BLOCK / 2


@njit(cache=True, nogil=True, error_model="numpy")
def _find_dark(lab: F32, top: int, dark: NDArray[np.bool_]) -> None:
    """Finds dark blocks in which neighbouring pixels hardly differ; the first begins at row ``top``."""
    for row in range(dark.shape[0]):
        first = top + row * _TINTED
        for column in range(dark.shape[1]):
            light = np.float32(0)
            quiet = True
            for y in range(first, first + _TINTED):
                above = max(y - 1, first)
                for x in range(column * _TINTED, (column + 1) * _TINTED):
                    left = max(x - 1, column * _TINTED)
                    light += lab[0, y, x]
                    for c in range(3):
                        here = lab[c, y, x]
                        if abs(here - lab[c, y, left]) > _QUIET or abs(here - lab[c, above, x]) > _QUIET:
                            quiet = False
                if not quiet:
                    break
            dark[row, column] = quiet and light < _DARK * _TINTED * _TINTED


@njit(cache=True, nogil=True, error_model="numpy")
def _find_tints(error: F32, top: int, dark: NDArray[np.bool_], histogram: NDArray[np.int64]) -> None:
    """Counts, for each dark block, how far its colour is off on the mean; ``error`` is of a* and b*, and the
    first block row begins at row ``top``."""
    for row in range(dark.shape[0]):
        first = top + row * _TINTED
        for column in range(dark.shape[1]):
            if not dark[row, column]:
                continue
            off = 0.0
            for c in range(2):
                total = np.float32(0)
                for y in range(first, first + _TINTED):
                    for x in range(column * _TINTED, (column + 1) * _TINTED):
                        total += error[c, y, x]
                off += (total / (_TINTED * _TINTED)) ** 2
            histogram[min(_BINS - 1, int(math.sqrt(off) / _BIN))] += 1


@njit(cache=True, nogil=True, error_model="numpy")
def _find_seams(
    error: F32, top: int, calm: NDArray[np.bool_], first: int, end: int, histogram: NDArray[np.int64]
) -> None:
    """Counts, for each edge between calm blocks of the block rows from ``first`` to ``end`` and the ones
    below, how far the mean error steps there; the first block row begins at row ``top``."""
    for row in range(first, end):
        y = top + (row - first) * _BLOCK
        for column in range(calm.shape[1]):
            if not calm[row, column]:
                continue
            x = column * _BLOCK
            for down in range(2):
                if down:
                    if row + 1 == calm.shape[0] or not calm[row + 1, column]:
                        continue
                    v, u, height, width = y + _BLOCK - _AROUND, x, _AROUND, _BLOCK
                else:
                    if column + 1 == calm.shape[1] or not calm[row, column + 1]:
                        continue
                    v, u, height, width = y, x + _BLOCK - _AROUND, _BLOCK, _AROUND
                step = 0.0
                for c in range(3):
                    apart = np.float32(0)
                    for i in range(v, v + height):
                        for j in range(u, u + width):
                            if down:
                                apart += error[c, i + _AROUND, j] - error[c, i, j]
                            else:
                                apart += error[c, i, j + _AROUND] - error[c, i, j]
                    step += (apart / (_AROUND * _BLOCK)) ** 2
                histogram[min(_BINS - 1, int(math.sqrt(step) / _BIN))] += 1


@njit(cache=True, nogil=True, error_model="numpy")
def _gather(lab: F32, labels: U8, own: F32, sums: NDArray[np.float64], strayed: NDArray[np.float64]) -> None:
    for y in range(lab.shape[1]):
        for x in range(lab.shape[2]):
            number = labels[y, x]
            if number == 255:
                continue
            off = np.float32(0)
            for c in range(3):
                sums[number, c] += lab[c, y, x]
                off += (lab[c, y, x] - own[number, c]) ** 2
            sums[number, 3] += 1
            # CIE 1976 is never much below CIEDE2000, and cheap: only what it finds far is reckoned exactly.
            if (
                off > _STRAYED**2
                and _ciede2000(
                    own[number, 0], own[number, 1], own[number, 2], lab[0, y, x], lab[1, y, x], lab[2, y, x]
                )
                > _STRAYED
            ):
                strayed[number] += 1


@njit(cache=True, nogil=True, error_model="numpy")
def _jumps(
    error: F32,
    smooth: NDArray[np.bool_],
    labels: U8,
    top: int,
    bottom: int,
    histogram: NDArray[np.int64],
    grain: NDArray[np.float64],
) -> None:
    """Counts, for each place whose surroundings are smooth and not even, how far the mean error jumps
    there.

    Sums over surroundings are differences of running sums along a row, over columns of nine rows, of the four
    above and of the four below.
    """
    _, height, width = error.shape
    side = 2 * _AROUND + 1
    all_smooth = np.zeros(width, np.int32)
    not_even = np.zeros(width, np.int32)
    over = np.zeros((3, 3, width + 1))  # whole columns, above, below; by channel
    first = max(top, _AROUND)
    for y in range(first, min(bottom, height - _AROUND)):
        if y == first:
            for v in range(y - _AROUND, y + _AROUND + 1):
                for x in range(width):
                    all_smooth[x] += smooth[v, x]
                    not_even[x] += labels[v, x] == 255
        else:
            for x in range(width):
                all_smooth[x] += np.int32(smooth[y + _AROUND, x]) - np.int32(smooth[y - _AROUND - 1, x])
                not_even[x] += np.int32(labels[y + _AROUND, x] == 255)
                not_even[x] -= np.int32(labels[y - _AROUND - 1, x] == 255)
        if y & 1:
            continue  # its neighbours say nearly the same
        clean = 0
        uneven = -width
        summed = False
        for x in range(width):
            clean = clean + 1 if all_smooth[x] == side else 0
            if clean and not_even[x]:
                uneven = x
            if clean < side or x & 1 or uneven <= x - side:
                continue
            if not summed:
                _running_sums(error, y, over)
                summed = True
            middle = x - _AROUND
            across = 0.0
            along = 0.0
            for c in range(3):
                whole = over[0, c]
                left = whole[middle] - whole[middle - _AROUND]
                right = whole[x + 1] - whole[middle + 1]
                across += (left - right) ** 2
                above = over[1, c, x + 1] - over[1, c, middle - _AROUND]
                below = over[2, c, x + 1] - over[2, c, middle - _AROUND]
                along += (above - below) ** 2
            jump = math.sqrt(max(across, along)) / (_AROUND * side)
            off = error[0, y, middle] ** 2 + error[1, y, middle] ** 2 + error[2, y, middle] ** 2
            grain[0] += math.sqrt(off)
            grain[1] += 1
            histogram[min(_BINS - 1, int(jump / _BIN))] += 1


@njit(cache=True, nogil=True, error_model="numpy")
def _running_sums(error: F32, y: int, over: NDArray[np.float64]) -> None:
    """Sums from a row's begin on: of columns of nine rows around it, of the four above, of the four below."""
    width = error.shape[2]
    above = np.empty(width, np.float32)
    below = np.empty(width, np.float32)
    for c in range(3):
        plane = error[c]
        above[:] = 0
        below[:] = 0
        for v in range(1, _AROUND + 1):
            up = plane[y - v]
            down = plane[y + v]
            for x in range(width):
                above[x] += up[x]
                below[x] += down[x]
        all_of_it = all_above = all_below = 0.0
        for x in range(width):
            all_above += above[x]
            all_below += below[x]
            all_of_it += above[x] + below[x] + plane[y, x]
            over[0, c, x + 1] = all_of_it
            over[1, c, x + 1] = all_above
            over[2, c, x + 1] = all_below


def ciede2000(first: NDArray[np.float64], second: NDArray[np.float64]) -> float:
    """The colour difference of two colours in CIE L*a*b*; about 1 is just noticeable side by side."""
    return float(_ciede2000(*(float(value) for value in (*first, *second))))


@njit(cache=True, nogil=True, error_model="numpy")
def _ciede2000(l1: float, a1: float, b1: float, l2: float, a2: float, b2: float) -> float:
    mean7 = ((math.hypot(a1, b1) + math.hypot(a2, b2)) / 2) ** 7
    g = 0.5 * (1 - math.sqrt(mean7 / (mean7 + 25.0**7)))
    a1 *= 1 + g
    a2 *= 1 + g
    c1, c2 = math.hypot(a1, b1), math.hypot(a2, b2)
    h1 = math.degrees(math.atan2(b1, a1)) % 360 if c1 > 0 else 0.0
    h2 = math.degrees(math.atan2(b2, a2)) % 360 if c2 > 0 else 0.0
    turn = h2 - h1
    if c1 * c2 == 0:
        turn = 0.0
    elif turn > 180:
        turn -= 360
    elif turn < -180:
        turn += 360
    delta_hue = 2 * math.sqrt(c1 * c2) * math.sin(math.radians(turn / 2))
    light, chroma = (l1 + l2) / 2, (c1 + c2) / 2
    hue = h1 + h2
    if c1 * c2 > 0:
        if abs(h1 - h2) <= 180:
            hue = (h1 + h2) / 2
        elif h1 + h2 < 360:
            hue = (h1 + h2 + 360) / 2
        else:
            hue = (h1 + h2 - 360) / 2
    t = (
        1
        - 0.17 * math.cos(math.radians(hue - 30))
        + 0.24 * math.cos(math.radians(2 * hue))
        + 0.32 * math.cos(math.radians(3 * hue + 6))
        - 0.20 * math.cos(math.radians(4 * hue - 63))
    )
    around = 30 * math.exp(-(((hue - 275) / 25) ** 2))
    chroma7 = chroma**7
    rotation = -2 * math.sqrt(chroma7 / (chroma7 + 25.0**7)) * math.sin(math.radians(2 * around))
    light50 = (light - 50) ** 2
    in_light = (l2 - l1) / (1 + 0.015 * light50 / math.sqrt(20 + light50))
    in_chroma = (c2 - c1) / (1 + 0.045 * chroma)
    in_hue = delta_hue / (1 + 0.015 * chroma * t)
    return math.sqrt(max(0.0, in_light**2 + in_chroma**2 + in_hue**2 + rotation * in_chroma * in_hue))
