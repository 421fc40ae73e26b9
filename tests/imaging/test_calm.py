"""Calm places: they are found, blocks do not show in them, and a measure sees it when they do."""

import io
from itertools import product

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image, ImageFilter

from plumcrate.imaging import Level, Recipe
from plumcrate.imaging.jpeg import LossyEncoder, calm
from plumcrate.imaging.jpeg.calm import calm_part, calmness, join
from plumcrate.imaging.jpeg.lossy import quantization_tables
from plumcrate.imaging.jpeg.quantize import _bits_of_means, _choose_means
from plumcrate.imaging.jpeg.transform import coefficients_of, frame_for, planes_of
from plumcrate.imaging.pixels import Pixels
from plumcrate.imaging.recipe import Limits
from plumcrate.imaging.scoring import Judge
from plumcrate.imaging.scoring.flatness import FlatGround, Flatness
from plumcrate.imaging.treatment.case import Case


def blurred_red(width: int = 320, height: int = 208) -> np.ndarray:
    """A background out of focus: large soft lights on deep red, with a sensor's noise."""
    rng = np.random.default_rng(7)
    lights = (rng.random((height // 8, width // 8)) ** 3 * 255).astype(np.uint8)
    soft = Image.fromarray(lights).resize((width, height), Image.Resampling.BICUBIC)
    light = np.asarray(soft.filter(ImageFilter.GaussianBlur(22)), np.float64)[..., None]
    noise = rng.normal(0, 0.6, (height, width, 1))
    return np.clip(light * (2.2, 0.7, 0.5) + (70, 18, 14) + noise, 0, 255).round().astype(np.uint8)


def noisy(width: int = 320, height: int = 208) -> np.ndarray:
    return np.random.default_rng(1).integers(0, 256, (height, width, 3), dtype=np.uint8)


def shown(data: bytes) -> np.ndarray:
    with Image.open(io.BytesIO(data)) as image:
        return np.asarray(image.convert("RGB"))


# -- finding them ------------------------------------------------------------------------------


def test_blurred_places_are_calm_and_textured_ones_are_not() -> None:
    half = np.concatenate([blurred_red()[:, :160], noisy()[:, 160:]], axis=1)
    frame = frame_for(320, 208, grey=False, subsampled=True)
    found = calmness(planes_of(half), frame)
    assert found.shape == (frame.total_blocks,)
    for component in frame.components:
        grid = found[component.blocks].reshape(component.rows, component.stride)
        middle = component.across // 2
        assert grid[:, : middle - 1].min() > 0.5
        assert grid[:, middle + 1 :].max() == 0
    assert calm_part(found, frame) == 1


def test_a_chroma_block_is_as_calm_as_the_least_calm_below_it() -> None:
    picture = blurred_red()
    picture[8:16, 8:16] = noisy()[8:16, 8:16]
    frame = frame_for(320, 208, grey=False, subsampled=True)
    found = calmness(planes_of(picture), frame)
    luma, blue, _ = frame.components
    assert found[luma.blocks].reshape(luma.rows, -1)[0, 0] > 0
    assert found[blue.blocks].reshape(blue.rows, -1)[0, 0] == 0


def test_only_calm_pictures_and_high_steps_get_finer_means() -> None:
    plain, fine = quantization_tables(72), quantization_tables(72, 1.0)
    for number in range(3):
        assert (fine[number][:3] < plain[number][:3]).all()
        assert np.array_equal(fine[number][3:], plain[number][3:])
    assert np.array_equal(quantization_tables(110)[1], quantization_tables(110, 0.5)[1])


@pytest.mark.parametrize("calm", [0.0, 0.3, 1.0])
def test_tables_of_calm_pictures_too_get_finer_with_the_step(calm: float) -> None:
    for step in range(20, 118):
        for number, table in quantization_tables(step, calm).items():
            assert (table >= quantization_tables(step + 1, calm)[number]).all()


# -- rounding by the neighbours ----------------------------------------------------------------


@given(seed=st.integers(0, 10_000), step=st.integers(40, 100), part=st.floats(0, 1))
def test_joining_stays_beside_the_value_and_leaves_the_rest(seed: int, step: int, part: float) -> None:
    rng = np.random.default_rng(seed)
    frame = frame_for(64, 48, grey=False, subsampled=False)
    component = frame.components[1]
    values = (rng.laplace(size=(48, 64)) * 300 / (1 + np.arange(64))).astype(np.float32)
    table = quantization_tables(step)[1]
    levels = np.rint(values / table).astype(np.int16)
    before, quiet = levels.copy(), (rng.random(48) < part).astype(np.float32)
    join(values, table, quiet, np.full(48, 0.1, np.float32), component, levels)
    assert np.array_equal(levels[quiet == 0], before[quiet == 0])
    assert np.array_equal(levels[:, 3:], before[:, 3:])
    assert np.abs(levels - values / table)[:, :3].max() <= 1 + 1e-4


def test_errors_run_on_across_edges_where_they_were_joined() -> None:
    rgb = blurred_red()
    frame = frame_for(320, 208, grey=False, subsampled=True)
    planes = planes_of(rgb)
    component = frame.components[2]
    values = coefficients_of(planes, frame)[component.blocks]
    table = quantization_tables(70)[2]
    rounded = np.rint(values / table).astype(np.int16)
    joined = rounded.copy()
    quiet = calmness(planes, frame)[component.blocks]
    join(values, table, quiet, np.zeros(len(values), np.float32), component, joined)

    def steps(levels: np.ndarray) -> float:
        error = (levels * table - values)[:, [0, 1]].reshape(component.rows, component.stride, 2)
        right = error[..., 0] * calm._LAST[0] + error[..., 1] * calm._LAST[1]
        left = error[..., 0] * calm._FIRST[0] + error[..., 1] * calm._FIRST[1]
        return float(((right[:, :-1] - left[:, 1:]) ** 2).mean())

    assert steps(joined) < 0.6 * steps(rounded)


@pytest.mark.parametrize(("step", "part"), [(60, 0.8), (72, 0.8), (84, 0.95)])
def test_blocks_show_less_in_a_blurred_background(
    step: int, part: float, monkeypatch: pytest.MonkeyPatch
) -> None:
    rgb = blurred_red()
    ground = FlatGround(rgb)
    ours = LossyEncoder(rgb, grey=False, subsampled=True).encode(step, searched=True)
    monkeypatch.setattr("plumcrate.imaging.jpeg.lossy.join", lambda *args: None)
    monkeypatch.setattr("plumcrate.imaging.jpeg.lossy.calm_part", lambda *args: 0.0)
    # As many bytes without it: the step at which the file is at least as large.
    plain = LossyEncoder(rgb, grey=False, subsampled=True)
    spent = next(
        data for higher in range(step, 110) if len(data := plain.encode(higher, searched=True)) >= len(ours)
    )
    assert ground.judge(shown(ours)).seam < part * ground.judge(shown(spent)).seam


# -- means, coded from block to block ----------------------------------------------------------


@given(seed=st.integers(0, 10_000), count=st.integers(1, 7), weight=st.floats(0, 1))
def test_the_chosen_means_are_the_cheapest_of_all(seed: int, count: int, weight: float) -> None:
    rng = np.random.default_rng(seed)
    values = np.zeros((count, 64), np.float32)
    values[:, 0] = rng.normal(0, 40, count)
    inverse = np.full(64, 0.1, np.float32)
    levels = np.rint(values * inverse).astype(np.int16)
    bits = _bits_of_means(levels)
    weights = np.full(count, weight, np.float32)
    _choose_means(values, inverse, bits, weights, levels)
    exact = values[:, 0].astype(np.float64) / 10

    def cost(means: np.ndarray) -> float:
        apart = np.abs(np.diff(means, prepend=0)).astype(int)
        sizes = np.array([int(one).bit_length() for one in apart])
        return float(((means - exact) ** 2).sum() + weight * bits[sizes].sum())

    low = np.floor(exact)
    cheapest = min(cost(low + np.array(high)) for high in product((0, 1), repeat=count))
    assert cost(levels[:, 0].astype(np.float64)) <= cheapest + 1e-3


# -- the measure -------------------------------------------------------------------------------


def in_blocks(rgb: np.ndarray, amount: int) -> np.ndarray:
    """Every other block of 16 a shade redder."""
    rows, columns = np.indices(rgb.shape[:2]) // 16
    out = rgb.astype(np.int16)
    out[..., 0] += np.where((rows + columns) % 2, amount, 0).astype(np.int16)
    return out.clip(0, 255).astype(np.uint8)


def test_shades_of_blocks_are_told_and_a_shift_of_all_is_not() -> None:
    rgb = blurred_red()
    ground = FlatGround(rgb)
    assert ground.judge(rgb) == Flatness()
    seams = [ground.judge(in_blocks(rgb, amount)).seam for amount in (1, 3, 6)]
    assert 0.3 < seams[0] < seams[1] < seams[2]
    assert seams[2] == pytest.approx(6 * seams[0], rel=0.35)
    drifted = np.clip(rgb.astype(np.int16) + np.array([6, 0, 0]), 0, 255).astype(np.uint8)
    assert ground.judge(drifted).seam < seams[1]


def test_texture_has_no_seams_to_look_at() -> None:
    rgb = noisy()
    assert FlatGround(rgb).plain
    assert FlatGround(rgb).judge(in_blocks(rgb, 20)).seam == 0


@pytest.mark.parametrize("level", [Level.GALLERY, Level.EVERYDAY, Level.LEAN])
def test_a_result_whose_blocks_show_is_refused_though_its_score_is_good(level: Level) -> None:
    rgb = blurred_red()
    out = io.BytesIO()
    Image.fromarray(rgb).save(out, "PNG")
    case = Case(out.getvalue(), Recipe(level), Limits())
    blocks = Pixels(in_blocks(rgb, 7))
    assert case.stays(case.judge, Pixels(rgb))
    assert not case.stays(case.judge, blocks)
    limit = {Level.GALLERY: 90, Level.EVERYDAY: 80, Level.LEAN: 70}[level]
    assert Judge(Pixels(rgb)).colours(blocks).worst < 30
    assert Judge(Pixels(rgb)).score(Pixels(in_blocks(rgb, 1))) > limit - 15
