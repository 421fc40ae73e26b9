"""Drawn pictures: flat colours stay what they are, smooth ground gets no bands, whatever the score says."""

import io

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from outputs import data_of
from PIL import Image, ImageDraw, ImageFilter

from plumcrate.demo.painter.diagrams import LIGHT, diagram, every_diagram
from plumcrate.imaging import Level, Recipe, treat
from plumcrate.imaging.pixels import Pixels, decode, to_pixels
from plumcrate.imaging.png.palette import Histogram, Pins, apply_palette, to_space
from plumcrate.imaging.scoring import BACKGROUNDS, Judge
from plumcrate.imaging.scoring.flatness import FlatGround, Flatness, ciede2000, flat_colours, pack
from plumcrate.imaging.treatment.png import rgba_of

DRAWN = every_diagram(240)
SHADOW = np.asarray(diagram("bars", LIGHT, width=480))


def as_png(image: Image.Image) -> bytes:
    out = io.BytesIO()
    image.save(out, "PNG")
    return out.getvalue()


@pytest.mark.parametrize(
    ("first", "second", "difference"),
    [  # from the test data of Sharma, Wu and Dalal
        ((50.0, 2.6772, -79.7751), (50.0, 0.0, -82.7485), 2.0425),
        ((50.0, -1.3802, -84.2814), (50.0, 0.0, -82.7485), 1.0000),
        ((50.0, 2.5, 0.0), (50.0, 0.0, -2.5), 4.3065),
        ((50.0, 2.5, 0.0), (61.0, -5.0, 29.0), 22.8977),
        ((60.2574, -34.0099, 36.2677), (60.4626, -34.1751, 39.4387), 1.2644),
        ((90.8027, -2.0831, 1.441), (91.1528, -1.6435, 0.0447), 1.4441),
        ((2.0776, 0.0795, -1.135), (0.9033, -0.0636, -0.5514), 0.9082),
    ],
)
def test_the_colour_difference_is_the_published_one(
    first: tuple[float, ...], second: tuple[float, ...], difference: float
) -> None:
    for one, other in ((first, second), (second, first)):
        assert ciede2000(np.array(one), np.array(other)) == pytest.approx(difference, abs=1e-4)


def test_a_bar_in_its_neighbours_colour_is_told() -> None:
    ground = FlatGround(SHADOW)
    swapped = SHADOW.copy()
    swapped[(SHADOW == (107, 44, 92)).all(axis=2)] = (122, 54, 106)
    assert ground.judge(SHADOW).within(Flatness(moved=1e-3)), "what stays is found where it was"
    assert ground.judge(swapped).moved > 3
    assert Judge(Pixels(SHADOW)).score(Pixels(swapped)) > 80, "the score alone lets it pass"


def test_steps_in_a_shadow_are_told_and_dithering_is_not() -> None:
    ground = FlatGround(SHADOW)
    grey = Image.fromarray(SHADOW).convert("L")
    levels = [0, 42, 60, 100, *range(130, 256, 9)]
    palette = Image.new("P", (1, 1))
    palette.putpalette([value for level in levels for value in (level,) * 3])
    stepped, dithered = (
        np.asarray(grey.convert("RGB").quantize(palette=palette, dither=how).convert("RGB"))
        for how in (Image.Dither.NONE, Image.Dither.FLOYDSTEINBERG)
    )
    smooth = FlatGround(np.asarray(grey.convert("RGB")))
    assert smooth.judge(stepped).jump > 1.2
    assert smooth.judge(dithered).jump < smooth.judge(stepped).jump / 2
    drifting = (SHADOW.astype(int) - 2).clip(0, 255).astype(np.uint8)
    assert ground.judge(drifting).jump < 0.3, "a drift of all is no band"


@pytest.mark.parametrize("name", list(DRAWN))
def test_what_is_drawn_keeps_its_flat_colours_and_its_smooth_ground(name: str) -> None:
    source = DRAWN[name]
    treatment = treat(as_png(source), Recipe(Level.EVERYDAY, copies=frozenset({"webp"})))
    data = data_of(treatment.main)
    assert data is not None
    before, after = to_pixels(source), decode(data)
    for grey in BACKGROUNDS:
        shown, original = after.over(grey), before.over(grey)
        packed = pack(original)
        for colour in flat_colours(packed, 0.005):
            here = shown[packed == colour].astype(float)
            own = original[packed == colour][0].astype(float)
            assert np.abs(here.mean(axis=0) - own).max() <= 2, f"{own} became {here.mean(axis=0)}"
            assert (np.abs(here - own).max(axis=1) > 12).mean() < 0.1
    assert Judge(before).flatness(after).within(Flatness(1.0, 0.05, 1.2, 0.9, 1.4, 2.5))
    for copy in treatment.of("copy"):
        written = data_of(copy)
        if written is not None:
            assert Judge(before).flatness(decode(written)).within(Flatness(2.2, 0.12, 1.6, 2.0, 2.1, 2.8))


def test_flat_jpegs_are_held_to_it_too() -> None:
    out = io.BytesIO()
    Image.fromarray(SHADOW).save(out, "JPEG", quality=96, subsampling="4:4:4")
    data = data_of(treat(out.getvalue(), Recipe(Level.LEAN, copies=frozenset())).main)
    assert data is not None
    flatness = Judge(decode(out.getvalue())).flatness(decode(data))
    assert flatness.within(Flatness(2.0, 0.25, 2.2, 2.5, 2.7, 4.0))


@given(
    st.lists(st.tuples(*[st.integers(0, 255)] * 3), min_size=2, max_size=9, unique=True),
    st.integers(0, 2**32 - 1),
    st.sampled_from([0.0, 0.85]),
)
def test_flat_colours_come_through_a_palette_unchanged(
    colours: list[tuple[int, int, int]], seed: int, strength: float
) -> None:
    rng = np.random.default_rng(seed)
    rgb = rng.integers(0, 256, (64, 96, 3)).astype(np.uint8)
    for number, colour in enumerate(colours):
        rgb[32:64, number * 10 : number * 10 + 10] = colour
    rgba = rgba_of(Pixels(rgb))
    pins = Pins(rgba)
    pinned = pins.of(16)
    assert pinned is not None
    palette = Histogram(rgba).palette(16, pinned)
    assert len(palette) <= 16
    indexes, used = apply_palette(to_space(rgba), palette, strength, pins.ground(pinned))
    assert np.array_equal(used[indexes][33:63, 1:9], rgba[33:63, 1:9])
    for number, colour in enumerate(colours):
        assert (used[indexes][33:63, number * 10 + 1 : number * 10 + 9, :3] == colour).all()


def test_a_palette_that_has_no_room_for_the_flat_colours_is_none() -> None:
    rgb = np.repeat(np.repeat(np.arange(12, dtype=np.uint8).reshape(1, 12, 1) * 20, 8, axis=1), 40, axis=0)
    pins = Pins(rgba_of(Pixels(np.repeat(rgb, 3, axis=2))))
    assert pins.needed == 12
    assert pins.of(8) is None
    assert pins.of(12) is not None


def test_a_photograph_without_even_ground_is_not_looked_at() -> None:
    noise = np.random.default_rng(3).integers(0, 256, (120, 160, 3)).astype(np.uint8)
    ground = FlatGround(noise)
    assert ground.plain
    assert ground.judge(255 - noise) == Flatness()


def cards(seed: int, lightness: int = 1) -> Image.Image:
    """Cards with soft shadows on a dark page, as interfaces of today have them."""
    rng = np.random.default_rng(seed)
    top, bottom = rng.integers(4, 50, (2, 3)) * lightness
    rows = np.linspace(0, 1, 300)[:, None, None]
    page = np.broadcast_to(np.rint(top * (1 - rows) + bottom * rows), (300, 480, 3)).astype(np.uint8)
    image = Image.fromarray(page)
    for _ in range(3):
        x, y = int(rng.integers(10, 300)), int(rng.integers(10, 180))
        shadow = Image.new("L", image.size)
        ImageDraw.Draw(shadow).rounded_rectangle((x, y + 6, x + 150, y + 106), 10, fill=190)
        shadow = shadow.filter(ImageFilter.GaussianBlur(int(rng.integers(8, 22))))
        image = Image.composite(Image.new("RGB", image.size), image, shadow)
        colour = tuple(int(part) for part in rng.integers(20, 90, 3) * lightness)
        pen = ImageDraw.Draw(image)
        pen.rounded_rectangle((x, y, x + 150, y + 100), 10, fill=colour)
        pen.rectangle(
            (x + 10, y + 10, x + 40, y + 16), fill=tuple(int(part) for part in rng.integers(80, 255, 3))
        )
        for line in range(3):
            pen.line((x + 10, y + 32 + line * 14, x + 120, y + 32 + line * 14), fill=colour[::-1], width=4)
    return image


def test_a_blot_in_the_dark_is_told_and_one_in_the_light_is_not() -> None:
    for lightness, told in ((1, True), (4, False)):
        before = np.asarray(cards(1, lightness)).copy()
        before[100:196, 100:196] = (30 * lightness, 30 * lightness, 34 * lightness)
        after = before.copy()
        after[120:152, 120:152] = np.clip(after[120:152, 120:152].astype(int) + np.array((5, -3, -4)), 0, 255)
        tint = FlatGround(before).judge(after).tint
        assert (tint > 3.5) == told, tint


@pytest.mark.parametrize("seed", range(5))
@pytest.mark.parametrize("level", [Level.GALLERY, Level.EVERYDAY])
def test_dark_pages_get_no_blots(seed: int, level: Level) -> None:
    image = cards(seed)
    ground = FlatGround(np.asarray(image))
    limit = {Level.GALLERY: 2.6, Level.EVERYDAY: 2.8}[level]
    treatment = treat(as_png(image), Recipe(level=level))
    for output in treatment.chosen:
        assert ground.judge(decode(output.data).rgb).tint <= limit, output.format


def test_of_flat_art_a_lossless_copy_goes_before_one_that_is_hardly_lighter() -> None:
    image = Image.new("RGB", (200, 120), (28, 52, 88))
    ImageDraw.Draw(image).ellipse((60, 20, 140, 100), fill=(240, 196, 60))
    outputs = {(one.role, one.format): one for one in treat(as_png(image), Recipe()).outputs}
    webp, avif = outputs["copy", "webp"], outputs["copy", "avif"]
    assert (webp.score, webp.how) == (100.0, "lossless")
    assert getattr(avif, "verdict", "") == "lossless-is-near"
    noise = np.random.default_rng(4).integers(0, 256, (120, 200, 3), dtype=np.uint8)
    busy = as_png(Image.fromarray(noise).filter(ImageFilter.GaussianBlur(2)))
    outputs = {(one.role, one.format): one for one in treat(busy, Recipe()).outputs}
    assert outputs["copy", "webp"].score < 100, "of no photograph"
