"""Painting over, watermarks, and what matters in a picture."""

from __future__ import annotations

import io

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from plumcrate.demo.painter.scenes import SCENES
from plumcrate.imaging.errors import Damaged, ImagingError
from plumcrate.imaging.pixels import Pixels
from plumcrate.imaging.shapes import PLACES, Cover, Watermark
from plumcrate.imaging.shaping.covering import cover
from plumcrate.imaging.shaping.matters import what_matters
from plumcrate.imaging.shaping.watermarking import (
    as_png,
    check_watermark,
    missing_letters,
    watermark_pixels,
    watermarked,
)


def spotted(width: int = 160, height: int = 120) -> tuple[Pixels, Pixels]:
    """A slope of light with a dark spot in its middle, and without."""
    y, x = np.mgrid[0:height, 0:width]
    clean = np.stack([90 + x * 0.6, 100 + y * 0.5, 140 - x * 0.2], axis=-1)
    spot = clean.copy()
    spot[(x - 80) ** 2 + (y - 60) ** 2 < 12**2] = 10
    return Pixels(spot.astype(np.uint8)), Pixels(clean.astype(np.uint8))


def test_even_surroundings_are_continued_as_if_nothing_had_been_there() -> None:
    pixels, clean = spotted()
    out = cover(pixels, Cover(((0.5, 0.5),), radius=0.11))
    assert np.abs(out.rgb.astype(int) - clean.rgb).max() <= 6


def test_texture_is_continued_with_its_own_pieces() -> None:
    stripes = np.zeros((120, 160, 3), np.uint8)
    stripes[:, (np.arange(160) // 4) % 2 == 0] = (200, 180, 150)
    holed = stripes.copy()
    holed[50:70, 70:90] = (0, 200, 0)
    out = cover(Pixels(holed), Cover(((0.5, 0.5),), radius=0.11, soft=0.1)).rgb
    off = np.abs(out[48:72, 68:92].astype(int) - stripes[48:72, 68:92]).mean(axis=2)
    assert np.median(off) < 12
    assert off.mean() < 30, "most stripes go on where they were"


def test_only_the_stroke_changes_and_alpha_stays() -> None:
    pixels, _ = spotted()
    alpha = np.arange(160 * 120, dtype=np.uint32).reshape(120, 160).astype(np.uint8)
    out = cover(Pixels(pixels.rgb, alpha), Cover(((0.5, 0.5), (0.6, 0.5)), radius=0.08))
    y, x = np.mgrid[0:120, 0:160]
    away = (np.maximum(np.abs(x - 88) - 9, 0) ** 2 + (y - 60) ** 2) > (0.08 * 160 + 2) ** 2
    assert np.array_equal(out.rgb[away], pixels.rgb[away])
    assert out.alpha is alpha


def test_a_colour_and_a_clone() -> None:
    pixels, clean = spotted()
    red = cover(pixels, Cover(((0.5, 0.5),), 0.05, 0.0, "colour", (200, 10, 20)))
    assert red.rgb[60, 80].tolist() == [200, 10, 20]
    copied = cover(pixels, Cover(((0.5, 0.5),), 0.1, 0.2, "clone", offset=(0.3, 0.0)))
    assert copied.rgb[60, 80].tolist() == clean.rgb[60, 128].tolist()


@given(
    st.integers(1, 50),
    st.integers(1, 50),
    st.floats(0.001, 0.25),
    st.lists(st.tuples(st.floats(0, 1), st.floats(0, 1)), min_size=1, max_size=4),
    st.sampled_from(["colour", "clone", "surroundings"]),
    st.floats(-1, 1),
)
def test_any_stroke_anywhere_and_the_same_each_time(
    width: int, height: int, radius: float, points: list[tuple[float, float]], way: str, offset: float
) -> None:
    rgb = np.random.default_rng(width).integers(0, 256, (height, width, 3), dtype=np.uint8)
    stroke = Cover(tuple(points), radius, 0.3, way, offset=(offset, -offset))  # type: ignore[arg-type]
    first, second = cover(Pixels(rgb), stroke), cover(Pixels(rgb.copy()), stroke)
    assert first.size == (width, height)
    assert np.array_equal(first.rgb, second.rgb)


def test_a_stroke_over_everything_changes_nothing() -> None:
    rgb = np.full((20, 20, 3), 7, np.uint8)
    everything = Cover(((0.0, 0.5), (0.5, 0.5), (1.0, 0.5)), 0.25)
    assert cover(Pixels(rgb), Cover((), 0.2)).rgb is rgb
    assert np.array_equal(cover(Pixels(rgb), everything).rgb, rgb)


# -- watermarks -------------------------------------------------------------------------------------


def stamp(width: int = 40, height: int = 20, *, alpha: int = 255) -> bytes:
    return as_png(
        Pixels(np.full((height, width, 3), 90, np.uint8), np.full((height, width), alpha, np.uint8))
    )


@pytest.mark.parametrize("place", sorted(PLACES))
def test_a_watermark_stands_where_it_is_to(place: str) -> None:
    ground = Pixels(np.full((200, 300, 3), 30, np.uint8))
    out = watermarked(ground, Watermark(place, 0.1, 0.05, 1.0, 8, "own", data=stamp()))  # type: ignore[arg-type]
    rows, columns = np.nonzero((out.rgb != ground.rgb).any(axis=2))
    across, down = PLACES[place]  # type: ignore[index]
    assert abs(columns.min() - (10 + across * (300 - 20 - 30))) <= 1
    assert abs(rows.min() - (10 + down * (200 - 20 - 15))) <= 1


def test_a_watermark_is_light_on_dark_and_dark_on_light() -> None:
    for ground, expected in ((20, 255), (240, 0)):
        out = watermarked(
            Pixels(np.full((60, 90, 3), ground, np.uint8)), Watermark("centre", 0.5, 0, 1.0, 8, data=stamp())
        )
        assert out.rgb[30, 45, 0] == expected


def test_how_opaque_a_watermark_is() -> None:
    out = watermarked(
        Pixels(np.zeros((60, 90, 3), np.uint8)), Watermark("centre", 0.5, 0, 0.5, 8, "light", data=stamp())
    )
    assert abs(int(out.rgb[30, 45, 0]) - 128) <= 1


@given(
    st.integers(1, 120),
    st.integers(1, 120),
    st.sampled_from(sorted(PLACES)),
    st.floats(0.01, 1),
    st.floats(0, 0.4),
    st.booleans(),
)
def test_a_watermark_on_any_picture_keeps_its_size(
    width: int, height: int, place: str, part: float, margin: float, transparent: bool
) -> None:
    alpha = np.zeros((height, width), np.uint8) if transparent else None
    ground = Pixels(np.full((height, width, 3), 99, np.uint8), alpha)
    out = watermarked(ground, Watermark(place, part, margin, 0.7, 8, data=stamp()))  # type: ignore[arg-type]
    assert out.size == (width, height)
    if round(part * width) < 8:
        assert out is ground, "a watermark that cannot be read is left out"
    elif transparent:
        assert out.alpha is not None
        assert out.alpha.any(), "it shows where the picture does not"


def test_a_watermark_larger_than_the_picture_is_made_smaller() -> None:
    out = watermarked(
        Pixels(np.zeros((50, 500, 3), np.uint8)),
        Watermark("centre", 1.0, 0.0, 1.0, 8, "light", data=stamp(900, 900)),
    )
    assert out.rgb[:, :, 0].any(axis=1).sum() <= 25, "no higher than half of it"


def test_words_are_drawn_in_a_font_that_ships() -> None:
    drawn = watermark_pixels(Watermark(words="© Gannet Ledge Light Trust, Möwenstraße 7"))
    assert drawn.alpha is not None
    assert drawn.size[0] > 8 * drawn.size[1]
    assert 0.1 < (drawn.alpha > 128).mean() < 0.6
    assert missing_letters("© Gannet Ledge Light Trust, Möwenstraße 7") == ""
    assert missing_letters("Ledge 灯塔灯") == "灯塔"


def test_what_cannot_be_a_watermark_is_told() -> None:
    assert check_watermark(stamp(31, 17, alpha=200)) == (31, 17)
    with pytest.raises(Damaged, match="transparent all over"):
        check_watermark(stamp(alpha=0))
    out = io.BytesIO()
    Image.new("RGB", (9, 9)).save(out, "PNG")
    with pytest.raises(Damaged, match="no transparency"):
        check_watermark(out.getvalue())
    for broken in (b"", b"watermark", stamp()[:50]):
        with pytest.raises(ImagingError):
            check_watermark(broken)


# -- what matters --------------------------------------------------------------------------------


def test_a_lone_thing_on_even_ground_is_found_wherever_it_is() -> None:
    for x, y in ((30, 40), (150, 30), (90, 90), (160, 100)):
        rgb = np.full((120, 180, 3), (120, 150, 190), np.uint8)
        rgb[y - 9 : y + 9, x - 9 : x + 9] = (200, 60, 40)
        matter = what_matters(Pixels(rgb))
        assert abs(matter.focus[0] * 180 - x) < 9
        assert abs(matter.focus[1] * 120 - y) < 9
        left, top, right, bottom = matter.box(180, 120, (1, 1))
        assert left <= x - 9
        assert x + 9 <= right
        assert (right - left, top, bottom) == (120, 0, 120)


def test_the_painted_tower_is_inside_most_cuts() -> None:
    inside = 0
    for number in range(12):
        scene = SCENES["tower"](np.random.default_rng(number), 480, 320, number)
        matter = what_matters(Pixels((scene.clip(0, 1) * 255).astype(np.uint8)))
        left, _, right, _ = matter.box(480, 320, (1, 1))
        inside += left < matter.focus[0] * 480 < right
    assert inside == 12


@given(st.integers(1, 70), st.integers(1, 70), st.integers(1, 50), st.integers(1, 50), st.booleans())
def test_any_picture_has_a_focus_and_cuts_inside(
    width: int, height: int, wide: int, tall: int, even: bool
) -> None:
    rgb = np.random.default_rng(width).integers(0, 256, (height, width, 3), dtype=np.uint8)
    matter = what_matters(Pixels(np.zeros_like(rgb) if even else rgb))
    assert all(0 <= value <= 1 for value in matter.focus)
    assert abs(float(matter.weights.sum()) - 1) < 1e-3
    left, top, right, bottom = matter.box(width, height, (wide, tall))
    assert 0 <= left <= right <= width
    assert 0 <= top <= bottom <= height
