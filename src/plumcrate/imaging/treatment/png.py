"""The decision for a PNG: the smallest exact form, or a palette that keeps the promise."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..avif import Content
from ..metadata.in_png import built_chunks, png_chunks
from ..outcome import Chosen, Output, Tried, exact, impossible, lightest, refused, with_all
from ..pixels import Pixels
from ..png import PngError, recompress
from ..png.chunks import Chunk
from ..png.encode import encode_picture
from ..png.palette import Histogram, Pins, apply_palette, to_space
from ..png.picture import Picture
from ..png.recompress import kept_chunks
from ..png.reduce import indexed, of_rgba
from ..recipe import TOLERANCE, Effort, Level
from ..scoring import Flatness, Judgement
from .case import Case
from .weighing import checked_orientation, is_near, worth_it

U8 = NDArray[np.uint8]

#: Numbers of colours that are tried, and the strength of error diffusion.
_LADDER = (
    2,
    4,
    6,
    8,
    10,
    12,
    14,
    16,
    20,
    24,
    28,
    32,
    40,
    48,
    56,
    64,
    72,
    80,
    88,
    96,
    112,
    128,
    144,
    160,
    192,
    224,
    256,
)
#: Rungs by which a search first goes on from where the last one ended.
_NEAR = 2
_DIFFUSED = 0.85
#: Colour differences of patches that a palette may bring: nearly everywhere, and on the mean.
_WORST_COLOUR, _MEAN_COLOUR = 10.0, 1.5
#: What flat colours and smooth ground may suffer from a palette: without error diffusion, whose steps are
#: bands, and with it, where a jump of the error is its grain.
_PLAIN: dict[Level, Flatness] = {
    Level.GALLERY: Flatness(1.0, 0.05, 0.5, 0.6, 1.0, 2.0),
    Level.EVERYDAY: Flatness(1.0, 0.05, 0.7, 0.9, 1.4, 2.5),
    Level.LEAN: Flatness(1.0, 0.05, 1.0, 1.2, 2.0, 4.0),
}
_GRAINED: dict[Level, Flatness] = {
    Level.GALLERY: Flatness(1.0, 0.05, 0.8, 0.6, 1.0, 2.0),
    Level.EVERYDAY: Flatness(1.0, 0.05, 1.2, 0.9, 1.4, 2.5),
    Level.LEAN: Flatness(1.0, 0.05, 1.8, 1.4, 2.0, 4.0),
}
#: Pixels on which palettes are tried before the whole is mapped: none larger than this is tried whole.
_LARGEST = 40_000_000


def treat_png(case: Case) -> Output:
    assert case.png is not None
    kept = png_chunks(kept_chunks(case.png), case.recipe.metadata)
    candidates = [_exact(case, kept)]
    lossy = case.recipe.target is not None and not case.facts.animated and not case.png.picture.deep
    if lossy and case.facts.pixels <= _LARGEST and not _already_few(case):
        candidates += palettes(case, kept)
    weighed = _weighed(case, [candidate for candidate in candidates if candidate.size] or candidates)
    if weighed.score != 100.0:
        weighed = worth_it(case, weighed)
    elif weighed.size >= len(case.data):
        weighed = refused(weighed, "not-smaller")
    return checked_orientation(case, weighed)


def _weighed(case: Case, candidates: list[Output]) -> Output:
    """The lightest; of flat art the exact one, too, where it is hardly heavier."""
    best = lightest(candidates)
    exact_one = candidates[0]
    flat = case.content is Content.FLAT and exact_one.score == 100.0
    return with_all(exact_one, candidates) if flat and is_near(exact_one.size, best.size) else best


def png_of_shaped(case: Case) -> Output:
    """The smallest PNG of a shaped picture that keeps the promise."""
    kept = (
        png_chunks(kept_chunks(case.png), case.recipe.metadata, upright=True)
        if case.png is not None
        else built_chunks(case.file_extras.get("icc_profile"), case.file_extras.get("exif"))
    )
    candidates = [_exact(case, kept)]
    if case.recipe.target is not None and case.facts.pixels <= _LARGEST:
        candidates += palettes(case, kept)
    return lightest(candidates)


def _already_few(case: Case) -> bool:
    assert case.png is not None
    palette = case.png.picture.palette
    return palette is not None and len(palette) <= _LADDER[0]


def _exact(case: Case, kept: list[Chunk]) -> Output:
    recipe = case.recipe
    if case.resized:
        data = encode_picture(of_rgba(rgba_of(case.pixels)), kept, recipe.effort)
        how = "lossless, as shaped" if case.recipe.shapes else "lossless, at the new size"
    else:
        how = "lossless"
        try:
            data = recompress(
                case.data, recipe.effort, case.limits.pixels, kept=kept, clear_hidden=recipe.clear_hidden
            )
        except PngError:
            return impossible("png")
    return exact("png", data, how) if data is case.data or case.is_same(data) else impossible("png")


def palettes(case: Case, kept: list[Chunk]) -> list[Output]:
    """The smallest palette pictures that reach the target: with error diffusion, and without."""
    assert case.recipe.target is not None
    source = _PaletteSource(rgba_of(case.pixels))
    ladder = _LADDER if case.recipe.effort is not Effort.QUICK else _LADDER[::-5][::-1]
    out: list[Output] = []
    begin: int | None = None
    for strength in (_DIFFUSED, 0.0):
        fewest = _fewest(case, source, ladder, strength, begin)
        if fewest is None:
            continue
        begin, picture, encodes = fewest
        colours = len(picture.palette) if picture.palette is not None else 0
        data = encode_picture([picture], kept, case.recipe.effort)
        how = f"{colours} colours, {'diffused' if strength else 'plain'}"
        shown = case.decoded(data)  # the file as a decoder shows it is what counts
        judgement = case.judge.judge(shown)
        if not (_reaches(case, judgement) and _faithful(case, shown, grained=bool(strength))):
            continue
        out.append(
            Chosen(
                format="png",
                data=data,
                size=len(data),
                score=judgement.score,
                how=how,
                encodes=encodes,
                worst_place=judgement.turned(case.facts.orientation).worst_place(case.upright_size),
                tried=(Tried(how, len(data), judgement.score),),
            )
        )
    return out


class _PaletteSource:
    """What palettes of a picture (height, width, 4) are made from."""

    def __init__(self, rgba: U8) -> None:
        self._histogram, self._values, self._pins = Histogram(rgba), to_space(rgba), Pins(rgba)

    def mapped(self, size: int, strength: float) -> tuple[U8, U8] | None:
        """Indexes and colours with a palette of a size; None when its flat colours do not fit into it."""
        pinned = self._pins.of(size)
        if pinned is None:
            return None
        palette = self._histogram.palette(size, pinned)
        return apply_palette(self._values, palette, strength, self._pins.ground(pinned))


def _fewest(
    case: Case, source: _PaletteSource, ladder: tuple[int, ...], strength: float, begin: int | None
) -> tuple[int, Picture, int] | None:
    """The lowest rung of the ladder that reaches the target, its picture, and how many were tried.

    By halving what is left of the ladder; from ``begin``, a rung that is likely near, by strides that double.
    None when the highest rung fails: if the most colours do, all do.
    """
    low, high = 0, len(ladder) - 1
    place, stride = (high, 0) if begin is None else (begin, _NEAR)
    best: tuple[int, Picture] | None = None
    up: bool | None = None
    encodes = 0
    while low <= high:
        mapped = source.mapped(ladder[place], strength)
        encodes += 1
        reached = mapped is not None and _keeps_promise(case, *mapped, grained=bool(strength))
        if mapped is not None and reached:
            best, high = (place, indexed(*mapped)), place - 1
        else:
            low = place + 1
        if stride and up in (None, not reached):
            up = not reached
            place = min(high, place + stride) if up else max(low, place - stride)
            stride *= 2
        else:
            place, stride = (low + high) // 2, 0
    return None if best is None else (*best, encodes)


def _keeps_promise(case: Case, indexes: U8, colours: U8, *, grained: bool) -> bool:
    shown = colours[indexes]
    alpha = None if case.pixels.alpha is None else np.ascontiguousarray(shown[..., 3])
    candidate = Pixels(np.ascontiguousarray(shown[..., :3]), alpha)
    return _reaches(case, case.judge.judge(candidate)) and _faithful(case, candidate, grained=grained)


def _reaches(case: Case, judgement: Judgement) -> bool:
    assert case.recipe.target is not None
    aimed = min(judgement.score, judgement.worst + case.recipe.leeway)
    return aimed >= case.recipe.target - TOLERANCE


def _faithful(case: Case, candidate: Pixels, *, grained: bool) -> bool:
    """Whether small coloured things and flat colours keep their colour, smooth ground gets no bands, and no
    pattern stands where there was none."""
    shift = case.judge.colours(candidate)
    if shift.worst > _WORST_COLOUR or shift.mean > _MEAN_COLOUR:
        return False
    if case.most_seen < 1 and case.judge.texture(candidate).seen > case.most_seen:
        return False
    return case.judge.flatness(candidate).within((_GRAINED if grained else _PLAIN)[case.recipe.level])


def rgba_of(pixels: Pixels) -> U8:
    alpha = np.full(pixels.rgb.shape[:2], 255, np.uint8) if pixels.alpha is None else pixels.alpha
    return np.dstack([pixels.rgb, alpha])
