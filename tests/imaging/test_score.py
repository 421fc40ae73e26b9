"""The score against an independent implementation, and its properties."""

import io

import numpy as np
import pytest
from PIL import Image
from ssimulacra2 import compute_ssimulacra2

from plumcrate.demo.painter.drawings import DRAWINGS
from plumcrate.demo.painter.noise import grain
from plumcrate.demo.painter.scenes import SCENES
from plumcrate.imaging import score
from plumcrate.imaging.pixels import Pixels
from plumcrate.imaging.scoring import Judge
from plumcrate.imaging.scoring.colour import colour_shift, patches
from plumcrate.imaging.scoring.ssimulacra2 import Reference


def scene(name: str, width: int = 620, height: int = 410) -> np.ndarray:
    rng = np.random.default_rng(3)
    painted = grain(rng, SCENES[name](rng, width, height, 1), 0.02)
    return (painted.clip(0, 1) * 255).astype(np.uint8)


def encoded(rgb: np.ndarray, kind: str = "PNG", **options: object) -> bytes:
    out = io.BytesIO()
    Image.fromarray(rgb).save(out, kind, **options)
    return out.getvalue()


@pytest.mark.parametrize("name", ["headland", "lens", "fog"])
@pytest.mark.parametrize("quality", [15, 50, 80, 95])
def test_agrees_with_the_oracle_within_a_twentieth_of_a_point(name: str, quality: int) -> None:
    rgb = scene(name)
    reference, candidate = encoded(rgb), encoded(rgb, "JPEG", quality=quality)
    oracle = compute_ssimulacra2(io.BytesIO(reference), io.BytesIO(candidate))
    assert score(reference, candidate) == pytest.approx(oracle, abs=0.05)


def test_identical_pictures_score_100_and_worse_ones_less() -> None:
    rgb = scene("tower")
    judge = Reference(rgb)
    assert judge.score(rgb) == pytest.approx(100.0, abs=0.05)
    ladder = [
        judge.score(np.asarray(Image.open(io.BytesIO(encoded(rgb, "JPEG", quality=q)))))
        for q in (20, 50, 80, 95)
    ]
    assert ladder == sorted(ladder)


@pytest.mark.parametrize("size", [(1, 1), (1, 300), (7, 5), (127, 129), (33, 400)])
def test_small_and_odd_sizes_have_a_score(size: tuple[int, int]) -> None:
    rgb = np.ascontiguousarray(scene("ledge")[: size[1], : size[0]])
    worse = np.clip(rgb.astype(int) + 40, 0, 255).astype(np.uint8)
    assert Reference(rgb).score(rgb) == pytest.approx(100.0, abs=0.05)
    assert Reference(rgb).score(worse) < 99


def test_transparency_is_judged_on_dark_and_light() -> None:
    logo = np.asarray(DRAWINGS["logo"](np.random.default_rng(0), 300, 100))
    pixels = Pixels(np.ascontiguousarray(logo[:, :, :3]), np.ascontiguousarray(logo[:, :, 3]))
    judge = Judge(pixels)
    hidden = pixels.rgb.copy()
    hidden[pixels.alpha == 0] = 200  # colour where nothing shows makes no difference
    assert judge.score(Pixels(hidden, pixels.alpha)) == pytest.approx(100.0, abs=0.05)
    assert judge.score(Pixels(pixels.rgb, np.full_like(pixels.alpha, 255))) < 50


def test_different_sizes_are_refused() -> None:
    rgb = scene("fog")
    with pytest.raises(ValueError, match="reference"):
        Reference(rgb).score(rgb[:-1])


def test_the_guard_measures_colour_as_cie_does() -> None:
    grey = np.full((16, 16, 3), 119, np.uint8)
    lab = patches(grey)
    assert lab.shape == (4, 4, 3)
    assert np.allclose(lab[0, 0], (50.0, 0.0, 0.0), atol=0.2), "code 119 is L* 50"
    red = patches(np.full((16, 16, 3), (255, 0, 0), np.uint8))
    assert np.allclose(red[0, 0], (53.24, 80.09, 67.20), atol=0.3)
    assert colour_shift(lab, lab).worst == 0


def test_the_guard_hears_a_drift_that_structure_does_not_show_and_not_fine_noise() -> None:
    rng = np.random.default_rng(0)
    picture = np.cumsum(rng.integers(-2, 3, (120, 160, 3)), axis=1).clip(-60, 60).astype(np.int16) + 128
    drifted = np.clip(picture + np.array([0, 0, 14]), 0, 255).astype(np.uint8)
    noise = np.clip(picture + rng.integers(-6, 7, picture.shape), 0, 255).astype(np.uint8)
    reference = patches(picture.astype(np.uint8))
    assert colour_shift(reference, patches(drifted)).mean > 4
    assert colour_shift(reference, patches(noise)).mean < 2
    odd = patches(np.zeros((5, 3, 3), np.uint8))
    assert odd.shape == (2, 1, 3)
