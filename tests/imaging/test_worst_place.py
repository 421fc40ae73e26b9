"""The worst place of a result: found, mapped, turned upright, and held to a floor."""

import io
import math
from functools import partial

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from outputs import data_of
from PIL import Image, ImageFilter

from plumcrate.demo.painter.noise import grain
from plumcrate.demo.painter.scenes import SCENES
from plumcrate.imaging import Level, Recipe, treat
from plumcrate.imaging.aim import Attempt, Knob, aim
from plumcrate.imaging.pixels import decode
from plumcrate.imaging.recipe import FLOORS, TARGETS, TOLERANCE
from plumcrate.imaging.scoring import Judge, Judgement
from plumcrate.imaging.scoring.judgement import MAP_SIDE
from plumcrate.imaging.scoring.ssimulacra2 import CELL, Reference


def scene(width: int = 512, height: int = 384) -> np.ndarray:
    rng = np.random.default_rng(11)
    painted = grain(rng, SCENES["headland"](rng, width, height, 1), 0.03)
    return (painted.clip(0, 1) * 255).astype(np.uint8)


def blurred_at(rgb: np.ndarray, left: int, top: int, side: int) -> np.ndarray:
    image = Image.fromarray(rgb)
    part = image.crop((left, top, left + side, top + side)).filter(ImageFilter.GaussianBlur(3))
    image.paste(part, (left, top))
    return np.asarray(image)


@pytest.mark.parametrize(("left", "top"), [(0, 0), (128, 192), (448, 320), (320, 64)])
def test_damage_is_found_where_it_is(left: int, top: int) -> None:
    rgb = scene()
    judgement = Reference(rgb).judge(blurred_at(rgb, left, top, CELL))
    worst_place = judgement.worst_place((512, 384))
    assert abs(worst_place.left * 512 - (left + CELL / 2)) < 1
    assert abs(worst_place.top * 384 - (top + CELL / 2)) < 1
    assert worst_place.score < judgement.score - 10
    lost = np.frombuffer(worst_place.lost, np.uint8).reshape(worst_place.rows, worst_place.columns)
    assert np.unravel_index(lost.argmax(), lost.shape) == (top // CELL, left // CELL)


def test_the_map_of_a_large_picture_stays_small_and_keeps_the_worst() -> None:
    rgb = np.tile(scene(), (5, 6, 1))[:1900, :3000]
    judgement = Reference(rgb).judge(blurred_at(rgb, 2900, 1800, 60))
    worst_place = judgement.worst_place((3000, 1900))
    assert len(worst_place.lost) <= MAP_SIDE**2
    assert max(worst_place.lost) == round(100 - worst_place.score)
    assert worst_place.left > 0.95
    assert worst_place.top > 0.93


def test_an_identical_candidate_has_no_bad_place() -> None:
    rgb = scene(200, 90)
    judgement = Reference(rgb).judge(rgb)
    assert judgement.score == pytest.approx(100, abs=0.05)
    assert judgement.worst == pytest.approx(100, abs=0.05)
    assert set(judgement.worst_place((200, 90)).lost) == {0}


@given(st.integers(1, 400), st.integers(1, 400), st.integers(0, 2**32 - 1))
def test_cells_cover_any_size(width: int, height: int, seed: int) -> None:
    rng = np.random.default_rng(seed)
    first, second = rng.integers(0, 256, (2, height, width, 3)).astype(np.uint8)
    judgement = Reference(first).judge(second)
    assert np.isfinite(judgement.cells).all()
    assert judgement.worst <= judgement.score + 20
    worst_place = judgement.worst_place((width, height))
    assert 0 <= worst_place.left <= 1
    assert 0 <= worst_place.top <= 1


@pytest.mark.parametrize("orientation", range(1, 9))
def test_places_are_told_upright(orientation: int) -> None:
    cells = np.full((3, 4), 90.0)
    cells[0, 3] = 50.0  # stored: the upper right corner
    exif = Image.Exif()
    exif[0x0112] = orientation
    watermarked = Image.new("L", (4, 3), 255)
    watermarked.putpixel((3, 0), 0)
    out = io.BytesIO()
    watermarked.save(out, "PNG", exif=exif)
    from PIL import ImageOps

    upright = np.asarray(ImageOps.exif_transpose(Image.open(out)))
    turned = Judgement(80.0, cells, 64).turned(orientation)
    assert np.array_equal(turned.cells == 50.0, upright == 0)


def test_an_aim_goes_higher_until_the_worst_place_is_good_enough() -> None:
    def attempted(quality: int, leeway: float = math.inf) -> Attempt:
        score = 50.0 + quality / 2
        return Attempt.judged(quality, b"", Judgement(score, np.array([[score, score - 20.0]]), 64), leeway)

    knob = Knob(lowest=1, highest=99, prior={80.0: 60}, slope=0.03)
    free = aim(attempted, 80.0, knob)
    held = aim(partial(attempted, leeway=8.0), 80.0, knob)
    assert free.best is not None
    assert held.best is not None
    assert free.best.judgement.score == pytest.approx(80, abs=1)
    assert held.best.judgement.worst >= 80 - 8 - TOLERANCE


@pytest.mark.parametrize("level", [Level.GALLERY, Level.EVERYDAY, Level.LEAN])
def test_results_keep_the_floor_of_their_level_and_tell_their_worst_place(level: Level) -> None:
    out = io.BytesIO()
    Image.fromarray(scene(400, 300)).save(out, "JPEG", quality=96)
    treatment = treat(out.getvalue(), Recipe(level))
    judged = Judge(decode(out.getvalue()))
    lossy = [output for output in treatment.chosen if output.score != 100.0]
    assert lossy
    for output in lossy:
        judgement = judged.judge(decode(data_of(output) or b""))
        assert judgement.worst >= FLOORS[level] - TOLERANCE
        assert output.worst_place is not None
        assert output.worst_place.score == pytest.approx(judgement.worst, abs=0.02)
        assert judgement.score >= TARGETS[level] - TOLERANCE
