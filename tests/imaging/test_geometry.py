"""Making pictures smaller: in linear light, with their proportions, without rings of the wrong colour."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from plumcrate.imaging.geometry import downscale, fitted, sharpened
from plumcrate.imaging.pixels import Pixels
from plumcrate.imaging.recipe import Sharpening


@given(st.integers(1, 9000), st.integers(1, 9000), st.integers(0, 4000), st.integers(0, 4000))
def test_sizes_fit_keep_proportions_and_never_grow(width: int, height: int, wide: int, tall: int) -> None:
    w, h = fitted(width, height, (wide, tall))
    assert 1 <= w <= width
    assert 1 <= h <= height
    assert not wide or w <= max(wide, 1)
    assert not tall or h <= max(tall, 1)
    assert abs(w / width - h / height) <= max(1 / width, 1 / height)


def test_light_is_averaged_not_codes() -> None:
    stripes = np.zeros((64, 64, 3), np.uint8)
    stripes[:, ::2] = 255
    grey = downscale(Pixels(stripes), 16, 16).rgb[4:-4, 4:-4]
    assert abs(int(grey.mean()) - 188) <= 1, "half the light is code 188 in sRGB"


def test_an_even_colour_stays_and_hidden_colour_does_not_bleed() -> None:
    plain = np.full((90, 70, 3), (200, 40, 90), np.uint8)
    assert (downscale(Pixels(plain), 23, 30).rgb == (200, 40, 90)).all()
    alpha = np.zeros((90, 70), np.uint8)
    alpha[:, :35] = 255
    bleeding = plain.copy()
    bleeding[:, 35:] = (0, 255, 0)
    small = downscale(Pixels(bleeding, alpha), 20, 30)
    assert small.alpha is not None
    assert np.abs(small.rgb[small.alpha > 8].astype(int) - (200, 40, 90)).max() <= 2
    with pytest.raises(ValueError, match="larger"):
        downscale(Pixels(plain), 71, 90)


def test_sharpening_steepens_edges_and_leaves_noise() -> None:
    rng = np.random.default_rng(0)
    edge = np.full((40, 40, 3), 100, np.uint8)
    edge[:, 20:] = 160
    steeper = sharpened(Pixels(edge), Sharpening(1.0, 1.0, 2)).rgb
    assert steeper[20, 19, 0] < 100
    assert steeper[20, 20, 0] > 160
    noise = (100 + rng.integers(0, 2, (40, 40, 3))).astype(np.uint8)
    assert np.array_equal(sharpened(Pixels(noise), Sharpening(2.0, 1.0, 4)).rgb, noise)
    assert sharpened(Pixels(edge), Sharpening()).rgb is edge
