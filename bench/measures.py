"""Whether what our JPEG gains is the score's alone: bytes at an equal value of other measures.

Against Pillow's progressive, optimized 4:2:0, read off its own curve where it has the value that ours has.
Multi-scale SSIM (Z. Wang, E. Simoncelli, A. Bovik, Asilomar Conference on Signals, Systems and Computers,
2003) and gradient magnitude similarity deviation (W. Xue et al., IEEE Trans. Image Processing 23 (2), 2014)
are of lightness, the light that pixels give, and not of luma, which our encoder moves for what chroma loses;
colours are those of the guard.
"""

from __future__ import annotations

from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from rich.console import Console
from rich.table import Table

from plumcrate.imaging.jpeg import LossyEncoder
from plumcrate.imaging.scoring.colour import colour_shift, patches
from plumcrate.imaging.scoring.ssimulacra2 import U8, Reference
from plumcrate.imaging.srgb import LIGHT

from .corpus import held_out, photo, tuned
from .jpeg import decoded, landed, saved

F64 = NDArray[np.float64]

_TARGETS = (60.0, 70.0, 80.0, 90.0)
_SIDE = 800
_QUALITIES = range(6, 99, 6)
MEASURES = ("score", "MS-SSIM", "gradient similarity", "colour difference")
#: Weights of the five scales, and the window of eleven taps, as published.
_SCALES = (0.0448, 0.2856, 0.3001, 0.2363, 0.1333)
_WINDOW = np.exp(-((np.arange(11) - 5) ** 2) / (2 * 1.5**2))
_WINDOW /= _WINDOW.sum()


def main() -> None:
    table = Table(
        "photographs",
        "target",
        *(f"at an equal {name}" for name in MEASURES),
        title=f"Bytes of our JPEG against Pillow's, {_SIDE} px",
    )
    for title, paths in (("fitted on", tuned()), ("held out", held_out())):
        with ProcessPoolExecutor(2) as pool:
            rows = list(pool.map(_compared, paths))
        for number, target in enumerate(_TARGETS):
            found = np.array([row[number] for row in rows if row[number] is not None])
            table.add_row(title, f"{target:.0f}", *(f"{one:+.1%}" for one in np.nanmean(found, axis=0)))
    Console(width=120).print(table)


def _compared(path: Path) -> list[F64 | None]:
    """For each target the change of bytes at an equal value of each measure; None where it is not reached."""
    image = photo(path, _SIDE)
    image.info.clear()
    rgb = np.asarray(image)
    reference = Reference(rgb)
    files = (
        saved(image, quality=quality, progressive=True, optimize=True, subsampling="4:2:0")
        for quality in _QUALITIES
    )
    theirs = np.array([_figures(rgb, reference, data) for data in files])
    out: list[F64 | None] = []
    for target in _TARGETS:
        encoder = LossyEncoder(rgb, grey=False, subsampled=True)
        best = landed(encoder, reference, target).best
        if best is None:
            out.append(None)
            continue
        ours = _figures(rgb, reference, encoder.encode(best.quality, searched=True))
        out.append(np.array([_ratio(ours, theirs, column) for column in range(1, 1 + len(MEASURES))]))
    return out


def _ratio(ours: F64, theirs: F64, column: int) -> float:
    """Our bytes against theirs at an equal value, less one; not a number beyond their curve."""
    order = np.argsort(theirs[:, column])
    values, sizes = theirs[order, column], theirs[order, 0]
    if not values[0] <= ours[column] <= values[-1]:
        return float("nan")
    return float(np.exp(ours[0] - np.interp(ours[column], values, sizes)) - 1)


def _figures(rgb: U8, reference: Reference, data: bytes) -> F64:
    """The logarithm of a file's bytes, and each measure as an error on a scale on which curves are even."""
    shown = decoded(data)
    errors = (
        101 - reference.score(shown),
        ms_ssim_error(rgb, shown),
        gradient_error(rgb, shown),
        colour_shift(patches(rgb), patches(shown)).mean,
    )
    return np.log([len(data), *errors])


def lightness(rgb: U8) -> F64:
    """CIE 1976 lightness of the light that pixels give, 0 to 255."""
    light = LIGHT[rgb].astype(np.float64) @ (0.2126729, 0.7151522, 0.0721750)
    curved = np.where(light > 0.008856, 116 * np.cbrt(light) - 16, 903.3 * light)
    return np.asarray(curved * 2.55)


def ms_ssim_error(first: U8, second: U8) -> float:
    """One less multi-scale SSIM of lightness."""
    a, b = lightness(first), lightness(second)
    product = 1.0
    for scale, weight in enumerate(_SCALES):
        mean_a, mean_b = _blurred(a), _blurred(b)
        var_a, var_b = _blurred(a * a) - mean_a**2, _blurred(b * b) - mean_b**2
        both = _blurred(a * b) - mean_a * mean_b
        structure = (2 * both + 58.5225) / (var_a + var_b + 58.5225)
        if scale == len(_SCALES) - 1:
            structure = structure * (2 * mean_a * mean_b + 6.5025) / (mean_a**2 + mean_b**2 + 6.5025)
        product *= max(float(structure.mean()), 1e-6) ** weight
        a, b = _half(a), _half(b)
    return 1 - product


def gradient_error(first: U8, second: U8) -> float:
    """Gradient magnitude similarity deviation of lightness."""
    a, b = (_steepness(_half(lightness(one))) for one in (first, second))
    similarity = (2 * a * b + 170.0) / (a**2 + b**2 + 170.0)
    return float(similarity.std())


def _blurred(plane: F64) -> F64:
    """Under the window, where it lies inside."""
    for axis in (0, 1):
        views = np.lib.stride_tricks.sliding_window_view(plane, _WINDOW.size, axis=axis)
        plane = views @ _WINDOW
    return plane


def _half(plane: F64) -> F64:
    height, width = (side // 2 * 2 for side in plane.shape)
    even = plane[:height, :width]
    return np.asarray((even[::2, ::2] + even[1::2, ::2] + even[::2, 1::2] + even[1::2, 1::2]) / 4)


def _steepness(plane: F64) -> F64:
    """The magnitude of Prewitt's gradient, where its mask lies inside."""
    rows = (plane[:-2] + plane[1:-1] + plane[2:]) / 3
    columns = (plane[:, :-2] + plane[:, 1:-1] + plane[:, 2:]) / 3
    return np.asarray(np.hypot(rows[:, 2:] - rows[:, :-2], columns[2:] - columns[:-2]))


if __name__ == "__main__":
    main()
