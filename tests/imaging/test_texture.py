"""Fine grain: what is kept of it is told window by window, and results keep as much as their level says."""

from __future__ import annotations

import io

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from numpy.typing import NDArray
from PIL import Image, ImageFilter

from plumcrate.imaging import Chosen, Level, Recipe, treat
from plumcrate.imaging.recipe import TEXTURE
from plumcrate.imaging.scoring.texture import Texture, TextureShift, _bands_of

U8 = NDArray[np.uint8]
F64 = NDArray[np.float64]
SIDE = 160


def grainy(strength: float, seed: int = 0, side: int = SIDE) -> U8:
    """A soft ground with the grain of a film."""
    rng = np.random.default_rng(seed)
    ground = np.linspace(60, 190, side)[:, None] + 20 * np.sin(np.linspace(0, 5, side))[None]
    noise = rng.normal(0, strength, (side, side))
    return np.asarray(np.clip(ground + noise, 0, 255)[..., None].repeat(3, 2).round(), np.uint8)


def blurred(rgb: U8, radius: float) -> U8:
    return np.asarray(Image.fromarray(rgb).filter(ImageFilter.GaussianBlur(radius)))


def bands(rgb: U8) -> F64:
    """Both bands' energy by NumPy alone."""

    def blur(plane: F64, apart: tuple[int, int]) -> F64:
        for axis in (0, 1):
            at, step = np.arange(plane.shape[axis]), apart[axis]
            taps = zip((1, 4, 6, 4, 1), range(-2 * step, 3 * step, step), strict=True)
            plane = np.sum([tap / 16 * plane.take(at + off, axis, mode="clip") for tap, off in taps], 0)
        return plane

    def energy(plane: F64, high: int) -> F64:
        rows, columns = plane.shape[0] // high, plane.shape[1] // 16
        squares: F64 = np.square(plane).reshape(rows, high, columns, 16)
        return np.asarray(np.sqrt(squares.mean((1, 3))))

    rows, columns = (extent // 16 for extent in rgb.shape[:2])
    if not rows or not columns:
        return np.zeros((2, rows, columns))
    luma = rgb.astype(float) @ (0.299, 0.587, 0.114)
    inside = np.s_[: rows * 16 : 2, : columns * 16]
    soft = blur(luma, (1, 1))[inside]
    softer = blur(soft, (1, 2))
    return np.stack([energy(luma[inside] - soft, 8), energy((soft - softer)[::2], 4)])


def plainly(reference: U8, candidate: U8) -> tuple[float, float]:
    """What is kept and seen by NumPy alone, place by place."""
    first, second = bands(reference), bands(candidate)
    counts = (first[0] >= 1) & (first[0] <= 14)
    parts = np.minimum(second[0] / np.maximum(first[0], 1e-9), 1)[counts]
    kept = float(parts.mean()) if counts.any() and counts.mean() >= 0.02 else 1.0
    changed = np.abs(second - first) / (1 + first) >= np.array([0.24, 0.16])[:, None, None]
    rows, columns = changed.shape[1:]
    if not rows or not columns:
        return 1.0, 0.0
    high, wide = min(5, rows), min(5, columns)
    places = [
        max(changed[band, top : top + high, left : left + wide].mean() for band in (0, 1)) >= 0.21
        for top in range(0, rows - high + 1, 2)
        for left in range(0, columns - wide + 1, 2)
    ]
    return kept, float(np.mean(places))


def test_the_same_picture_keeps_all_and_a_smooth_one_has_none_to_lose() -> None:
    rgb = grainy(3)
    assert Texture(rgb).judge(rgb) == TextureShift(1.0, 0.0)
    smooth = grainy(0)
    assert Texture(smooth).judge(blurred(smooth, 3)) == TextureShift(1.0, 0.0)


def test_the_more_is_smoothed_the_less_is_kept() -> None:
    rgb = grainy(4)
    kept = [Texture(rgb).judge(blurred(rgb, radius)).kept for radius in (0.3, 0.6, 1, 2)]
    assert kept == sorted(kept, reverse=True)
    assert kept[0] > 0.8
    assert kept[-1] < 0.3


def test_what_is_invented_in_one_place_makes_up_for_nothing_in_another() -> None:
    rgb = grainy(3)
    other = rgb.copy()
    other[:80] = blurred(rgb, 2)[:80]
    other[80:] = grainy(9)[80:]
    assert 0.4 < Texture(rgb).judge(other).kept < 0.65


def test_what_is_invented_on_smooth_ground_is_seen_and_what_hides_in_grain_is_not() -> None:
    smooth, rough = grainy(0), grainy(9)
    dots = np.indices((SIDE, SIDE)).sum(0) % 2 * 3
    for ground, seen in ((smooth, 1.0), (rough, 0.0)):
        dotted = np.clip(ground.astype(int) + dots[..., None], 0, 255).astype(np.uint8)
        assert Texture(ground).judge(dotted).seen == seen


def test_blotches_of_some_pixels_are_seen_by_the_band_above_the_finest() -> None:
    smooth = grainy(0)
    coarse = np.random.default_rng(1).normal(0, 8, (SIDE // 2, SIDE // 2)).repeat(2, 0).repeat(2, 1)
    blotched = blurred(np.clip(smooth + coarse[..., None], 0, 255).astype(np.uint8), 1)
    first, second = bands(smooth), bands(blotched)
    assert np.median(np.abs(second - first)[1] / (1 + first[1])) > 0.3
    assert Texture(smooth).judge(blotched).seen > 0.8


def test_edges_are_no_grain() -> None:
    drawn = np.zeros((SIDE, SIDE, 3), np.uint8)
    drawn[:, ::8] = 255
    assert Texture(drawn).judge(blurred(drawn, 2)).kept == 1.0


@given(
    strength=st.floats(0, 8),
    radius=st.floats(0, 3),
    seed=st.integers(0, 9),
    height=st.integers(1, 150),
    width=st.integers(1, 150),
)
def test_the_kernel_says_what_plain_reckoning_says(
    strength: float, radius: float, seed: int, height: int, width: int
) -> None:
    rgb = grainy(strength, seed)[:height, :width].copy()
    candidate = blurred(rgb, radius).copy()
    np.testing.assert_allclose(_bands_of(rgb), bands(rgb), atol=2e-4, rtol=1e-4)
    shift, (kept, seen) = Texture(rgb).judge(candidate), plainly(rgb, candidate)
    assert shift.kept == pytest.approx(kept, abs=2e-3)
    # A window at the very limit may fall on either side of it, and turn a place or two.
    assert shift.seen == pytest.approx(seen, abs=0.26)


@pytest.mark.parametrize("level", list(TEXTURE))
def test_every_result_keeps_the_grain_that_its_level_promises(level: Level) -> None:
    ground = grainy(2.5, side=320)
    into = io.BytesIO()
    Image.fromarray(ground).save(into, "JPEG", quality=96, subsampling=0)
    source = np.asarray(Image.open(io.BytesIO(into.getvalue())).convert("RGB"))
    outputs = [one for one in treat(into.getvalue(), Recipe(level)).outputs if isinstance(one, Chosen)]
    assert outputs
    for output in outputs:
        shown = np.asarray(Image.open(io.BytesIO(output.data)).convert("RGB"))
        kept, seen = plainly(source, shown)
        assert kept >= TEXTURE[level].kept - 0.02, (output.format, output.how)
        assert seen <= TEXTURE[level].seen + 0.03, (output.format, output.how)


def test_a_lean_result_may_smooth_it_away_and_is_smaller() -> None:
    into = io.BytesIO()
    Image.fromarray(grainy(2.5, side=320)).save(into, "JPEG", quality=96)
    sizes = [treat(into.getvalue(), Recipe(level)).outputs[0].size for level in (Level.LEAN, Level.EVERYDAY)]
    assert sizes[0] < sizes[1]


def as_png(rgb: U8) -> bytes:
    into = io.BytesIO()
    Image.fromarray(rgb).save(into, "PNG")
    return into.getvalue()


def test_no_palettes_dots_stand_in_a_glow() -> None:
    away = np.hypot(*(np.indices((220, 220)) - 110)) / 110
    glow = np.clip(np.array([235, 120, 40]) * np.clip(1.1 - away, 0, 1)[..., None], 0, 255).astype(np.uint8)
    treatment = treat(as_png(glow), Recipe(Level.EVERYDAY, copies=frozenset()))
    assert isinstance(treatment.main, Chosen)
    shown = np.asarray(Image.open(io.BytesIO(treatment.main.data)).convert("RGB"))
    assert plainly(glow, shown)[1] <= TEXTURE[Level.EVERYDAY].seen


@pytest.mark.parametrize("exact", [True, False])
def test_flat_art_stays_exact_where_a_palette_saves_next_to_nothing(exact: bool) -> None:
    """Of few shades a palette saves some hundred bytes, of many most of the file."""
    drawn = np.full((240, 320, 3), 250, np.uint8)
    rng = np.random.default_rng(3)
    hues = rng.integers(90, 256, (24 if exact else 2, 3))
    ramp = np.ones((40, 40)) if exact else np.linspace(0.5, 1, 40)[None] * np.linspace(0.6, 1, 40)[:, None]
    for number in range(60):
        left, top = rng.integers(0, 280), rng.integers(0, 200)
        drawn[top : top + 40, left : left + 40] = hues[number % len(hues)] * ramp[..., None]
    main = treat(as_png(drawn), Recipe(Level.EVERYDAY, copies=frozenset())).main
    assert isinstance(main, Chosen)
    assert (main.score == 100.0) is exact, [(one.how, one.size) for one in main.tried]
