"""The score in reverse, against finite differences of the score."""

import numpy as np
import pytest

from plumcrate.demo.painter.noise import grain
from plumcrate.demo.painter.scenes import SCENES
from plumcrate.imaging.scoring import kernels, ssimulacra2
from plumcrate.imaging.scoring.gradient import (
    _doubled,
    _halved,
    _moments,
    _spread,
    _to_light,
    add_plane,
    luma_gradient,
)
from plumcrate.imaging.scoring.ssimulacra2 import Reference


def pictures(seed: int, size: tuple[int, int]) -> tuple[np.ndarray, np.ndarray]:
    """A painting, and one that has lost something everywhere, neither near black or white."""
    random = np.random.default_rng(seed)
    painted = grain(random, SCENES["headland"](random, 256, 256, 1), 0.05)[: size[0], : size[1]]
    picture = (painted.clip(0, 1) * 200 + 28).astype(np.uint8)
    lost = picture + random.normal(0, 5, picture.shape) + 3 * np.sin(np.arange(picture.shape[1]))[:, None]
    return picture, np.clip(np.rint(lost), 4, 251).astype(np.uint8)


def error_sum(reference: Reference, candidate: np.ndarray) -> float:
    """What the points are a falling function of, found by halving."""
    score = reference.score(candidate)
    low, high = 0.0, 400.0
    for _ in range(60):
        middle = (low + high) / 2
        low, high = (middle, high) if ssimulacra2._to_points(np.array(middle)) > score else (low, middle)
    return low


@pytest.mark.parametrize("seed", range(3))
def test_it_predicts_what_a_step_does_to_the_score(seed: int) -> None:
    """A step of a whole sample value is a long one: within a quarter."""
    picture, candidate = pictures(seed, (131, 145))
    reference = Reference(picture)
    gradient = luma_gradient(Reference(picture), candidate).astype(np.float64)
    for place in (np.s_[:], np.s_[40:90, 30:100], np.s_[:8]):
        step = np.zeros(gradient.shape)
        step[place] = np.sign(gradient[place])
        up, down = ((candidate + turn * step[:, :, None]).astype(np.uint8) for turn in (1, -1))
        seen = error_sum(reference, up) - error_sum(reference, down)
        assert seen == pytest.approx(2 * float((gradient * step).sum()), rel=0.25)


_EVERYWHERE = {
    "inside": np.s_[20:40, 20:40],
    "top": np.s_[:6],
    "bottom": np.s_[-6:],
    "left": np.s_[:, :6],
    "right": np.s_[:, -6:],
}


@pytest.mark.parametrize("statistic", range(6))
@pytest.mark.parametrize("place", _EVERYWHERE)
def test_of_a_plane_it_is_the_finite_difference(
    monkeypatch: pytest.MonkeyPatch, place: str, statistic: int
) -> None:
    random = np.random.default_rng(statistic)
    a = (0.3 + 0.1 * random.random((61, 70))).astype(np.float32)
    b = (a + 0.02 * random.standard_normal(a.shape)).astype(np.float32)
    scale = 0 if statistic % 2 else 3  # every second row, and every one
    rows = a.shape[0] if scale else -(-a.shape[0] // 2)
    mean, variance = np.empty((2, rows, a.shape[1]), np.float32)
    kernels.local_moments(a, kernels.TAPS, 1 if scale else 2, mean, variance)
    plane = ssimulacra2.Plane(0, scale, a, mean, variance)
    edges = np.array([0, a.shape[1]]), np.array([0, a.shape[0]])
    # Each statistic alone, whichever of them the published weights leave out for this plane.
    alone = np.zeros(ssimulacra2._WEIGHTS.shape)
    alone[..., statistic] = 1.0
    monkeypatch.setattr(ssimulacra2, "_WEIGHTS", alone)

    def forward(candidate: np.ndarray) -> float:
        sums = np.empty((1, 1, 6))
        kernels.compare_plane(
            a, mean, variance, candidate.astype(np.float32), kernels.TAPS, plane.step, edges, sums
        )
        return float(ssimulacra2._weighed(sums.sum(axis=(0, 1)) / mean.size, plane.weights))

    gradient = np.zeros_like(a)
    add_plane(plane, b, gradient)
    step = np.zeros_like(a)
    step[_EVERYWHERE[place]] = np.sign(gradient[_EVERYWHERE[place]])
    size = 2e-4
    seen = (forward(b + size * step) - forward(b - size * step)) / (2 * size)
    assert seen == pytest.approx(float((gradient * step).sum()), rel=0.06)


@pytest.mark.parametrize("shape", [(8, 8), (7, 9), (12, 5)])
def test_halving_blurring_and_their_adjoints_fit_together(shape: tuple[int, int]) -> None:
    random = np.random.default_rng(1)
    whole = random.random((3, *shape)).astype(np.float32)
    half = np.empty((3, (shape[0] + 1) // 2, (shape[1] + 1) // 2), np.float32)
    _halved(whole, half)
    probe, back = random.random(half.shape).astype(np.float32), np.zeros_like(whole)
    for first in range(0, shape[0], 3):
        _doubled(probe, shape[0], first, back[:, first : first + 3])
    assert float((half * probe).sum()) == pytest.approx(float((whole * back).sum()), rel=1e-5)
    plane = random.random((shape[0] + 8, shape[1] + 8)).astype(np.float32)
    other = random.random(plane.shape).astype(np.float32)
    blurred, spread, _, _ = np.empty((4, *plane.shape), np.float32)
    _moments(plane, plane, kernels.TAPS, 1, 0, blurred, np.empty_like(plane), np.empty_like(plane))
    for first in range(0, len(spread), 5):
        _spread(other, kernels.TAPS, 1, 0, len(spread), first, spread[first : first + 5])
    assert float((blurred * other).sum()) == pytest.approx(float((plane * spread).sum()), rel=1e-5)


def test_from_light_to_the_colour_space_it_is_the_finite_difference() -> None:
    random = np.random.default_rng(3)
    light = random.uniform(0.02, 0.9, (3, 6, 8)).astype(np.float32)
    probe = random.standard_normal((3, 6, 8)).astype(np.float32)

    def forward(linear: np.ndarray) -> float:
        xyb, half = np.empty((3, 6, 8), np.float32), np.empty((3, 3, 4), np.float32)
        kernels.coarser_scale(linear.astype(np.float32), True, True, xyb, half)
        return float((xyb.astype(np.float64) * probe).sum())

    gradient = np.zeros_like(light)
    _to_light(light, probe, gradient)
    for channel in range(3):
        step = np.zeros_like(light)
        step[channel] = np.sign(gradient[channel])
        seen = (forward(light + 1e-3 * step) - forward(light - 1e-3 * step)) / 2e-3
        assert seen == pytest.approx(float((gradient * step).sum()), rel=0.02)


@pytest.mark.parametrize("band", [2, 30, 64])
def test_bands_of_rows_make_no_difference(monkeypatch: pytest.MonkeyPatch, band: int) -> None:
    picture, candidate = pictures(2, (151, 133))
    reference = Reference(picture)
    monkeypatch.setattr("plumcrate.imaging.scoring.gradient._BAND", 1 << 20)
    whole = luma_gradient(reference, candidate)
    monkeypatch.setattr("plumcrate.imaging.scoring.gradient._BAND", band)
    assert np.allclose(luma_gradient(reference, candidate), whole, rtol=1e-4, atol=1e-9)


def test_going_against_it_makes_a_picture_better() -> None:
    picture, candidate = pictures(1, (192, 192))
    gradient = luma_gradient(Reference(picture), candidate)
    better = np.clip(candidate - 2 * np.sign(gradient)[:, :, None], 0, 255).astype(np.uint8)
    reference = Reference(picture)
    assert reference.score(better) > reference.score(candidate) + 3


def test_of_a_picture_too_small_for_every_scale_nothing_is_said() -> None:
    tiny = np.zeros((20, 300, 3), np.uint8)
    assert not luma_gradient(Reference(tiny), tiny).any()
