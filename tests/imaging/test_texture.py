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
from plumcrate.imaging.recipe import GRAIN
from plumcrate.imaging.scoring.texture import Grain

U8 = NDArray[np.uint8]
SIDE = 160


def grainy(strength: float, seed: int = 0, side: int = SIDE) -> U8:
    """A soft ground with the grain of a film."""
    rng = np.random.default_rng(seed)
    ground = np.linspace(60, 190, side)[:, None] + 20 * np.sin(np.linspace(0, 5, side))[None]
    noise = rng.normal(0, strength, (side, side))
    return np.clip(ground + noise, 0, 255)[..., None].repeat(3, 2).round().astype(np.uint8)


def blurred(rgb: U8, radius: float) -> U8:
    return np.asarray(Image.fromarray(rgb).filter(ImageFilter.GaussianBlur(radius)))


def plainly(reference: U8, candidate: U8) -> float:
    """The same by NumPy alone, over every row."""

    def grain(rgb: U8) -> NDArray[np.float64]:
        luma = rgb.astype(float) @ (0.299, 0.587, 0.114)
        wide = np.pad(luma, 2, mode="edge")
        taps = np.array([1, 4, 6, 4, 1]) / 16
        down = sum(tap * wide[at : at + luma.shape[0]] for at, tap in enumerate(taps))
        both = sum(tap * down[:, at : at + luma.shape[1]] for at, tap in enumerate(taps))
        squares = np.square(luma - both)[::2]
        rows, columns = luma.shape[0] // 16, luma.shape[1] // 16
        squares = squares[: rows * 8, : columns * 16].reshape(rows, 8, columns, 16)
        return np.sqrt(squares.mean((1, 3)))

    first, second = grain(reference), grain(candidate)
    counts = (first >= 1) & (first <= 14)
    return float(np.minimum(second / np.maximum(first, 1e-9), 1)[counts].mean()) if counts.any() else 1.0


def test_the_same_picture_keeps_all_and_a_smooth_one_has_none_to_lose() -> None:
    rgb = grainy(3)
    assert Grain(rgb).kept(rgb) == 1.0
    smooth = grainy(0)
    assert Grain(smooth).kept(blurred(smooth, 3)) == 1.0


def test_the_more_is_smoothed_the_less_is_kept() -> None:
    rgb = grainy(4)
    kept = [Grain(rgb).kept(blurred(rgb, radius)) for radius in (0.3, 0.6, 1, 2)]
    assert kept == sorted(kept, reverse=True)
    assert kept[0] > 0.8
    assert kept[-1] < 0.3


def test_what_is_invented_in_one_place_makes_up_for_nothing_in_another() -> None:
    rgb = grainy(3)
    other = rgb.copy()
    other[:80] = blurred(rgb, 2)[:80]
    other[80:] = grainy(9)[80:]
    assert 0.4 < Grain(rgb).kept(other) < 0.65


def test_edges_are_no_grain() -> None:
    drawn = np.zeros((SIDE, SIDE, 3), np.uint8)
    drawn[:, ::8] = 255
    assert Grain(drawn).kept(blurred(drawn, 2)) == 1.0


@given(
    strength=st.floats(0, 8),
    radius=st.floats(0, 3),
    seed=st.integers(0, 9),
    height=st.integers(1, 70),
    width=st.integers(1, 70),
)
def test_the_kernel_says_what_plain_reckoning_says(
    strength: float, radius: float, seed: int, height: int, width: int
) -> None:
    rgb = grainy(strength, seed, 72)[:height, :width].copy()
    candidate = blurred(rgb, radius).copy()
    assert Grain(rgb).kept(candidate) == pytest.approx(plainly(rgb, candidate), abs=2e-3)


@pytest.mark.parametrize("level", list(GRAIN))
def test_every_result_keeps_the_grain_that_its_level_promises(level: Level) -> None:
    ground = grainy(2.5, side=320)
    into = io.BytesIO()
    Image.fromarray(ground).save(into, "JPEG", quality=96, subsampling=0)
    source = np.asarray(Image.open(io.BytesIO(into.getvalue())).convert("RGB"))
    outputs = [one for one in treat(into.getvalue(), Recipe(level)).outputs if isinstance(one, Chosen)]
    assert outputs
    for output in outputs:
        shown = np.asarray(Image.open(io.BytesIO(output.data)).convert("RGB"))
        assert plainly(source, shown) >= GRAIN[level] - 0.02, (output.format, output.how)


def test_a_lean_result_may_smooth_it_away_and_is_smaller() -> None:
    into = io.BytesIO()
    Image.fromarray(grainy(2.5, side=320)).save(into, "JPEG", quality=96)
    sizes = [treat(into.getvalue(), Recipe(level)).outputs[0].size for level in (Level.LEAN, Level.EVERYDAY)]
    assert sizes[0] < sizes[1]
