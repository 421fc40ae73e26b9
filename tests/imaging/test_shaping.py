"""Sizes, cuts and touch-ups, on pixels and without them."""

from __future__ import annotations

import io
import json

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from plumcrate.imaging import Level, Recipe, Sharpening, Size, Watermark, identify, treat
from plumcrate.imaging.errors import LeftAlone
from plumcrate.imaging.outcome import Chosen
from plumcrate.imaging.pixels import Pixels, decode
from plumcrate.imaging.recipe import TARGETS
from plumcrate.imaging.shapes import (
    PLACES,
    Brightness,
    Contrast,
    Cover,
    Crop,
    Grey,
    Rotation,
    Saturation,
    Sharpen,
    Touch,
    White,
    cut,
    cut_at_place,
    plain_touches,
    sized,
    touched_point,
    touched_size,
    touches_of,
)
from plumcrate.imaging.shaping import shaped
from plumcrate.imaging.shaping.touching import touched
from plumcrate.imaging.shaping.view import part, split, upright, whole

parts = st.floats(0, 1, allow_nan=False)
crops = st.builds(
    Crop, parts, parts, st.floats(0.01, 1), st.floats(0.01, 1), st.one_of(st.just(0.0), st.floats(-45, 45))
)
touches = st.lists(
    st.one_of(
        crops,
        st.builds(Rotation, st.integers(0, 3), st.booleans()),
        st.builds(Brightness, st.floats(-100, 100)),
        st.builds(Contrast, st.floats(-100, 100)),
        st.builds(White, st.tuples(*[st.integers(0, 255)] * 3)),
        st.builds(Saturation, st.floats(-100, 100)),
        st.builds(Sharpen, st.floats(0, 5), st.floats(0.3, 5), st.integers(0, 255)),
        st.just(Grey()),
        st.builds(
            Cover,
            st.lists(st.tuples(parts, parts), min_size=1, max_size=3).map(tuple),
            st.floats(0.001, 0.25),
            parts,
            st.sampled_from(["colour", "clone", "surroundings"]),
        ),
    ),
    max_size=5,
)


def noise(width: int, height: int, seed: int = 0, *, alpha: bool = False) -> Pixels:
    rng = np.random.default_rng(seed)
    rgb = rng.integers(0, 256, (height, width, 3), dtype=np.uint8)
    return Pixels(rgb, rng.integers(0, 256, (height, width), dtype=np.uint8) if alpha else None)


def scene(width: int = 320, height: int = 240, mode: str = "RGB") -> Image.Image:
    y, x = np.mgrid[0:height, 0:width]
    rgb = np.stack([x * 255 / width, y * 255 / height, 128 + 90 * np.sin(x / 9) * np.cos(y / 7)], axis=-1)
    return Image.fromarray(rgb.clip(0, 255).astype(np.uint8)).convert(mode)


def as_file(image: Image.Image, kind: str = "JPEG", **more: object) -> bytes:
    out = io.BytesIO()
    image.save(out, kind, **({"quality": 92} if kind != "PNG" else {}) | more)
    return out.getvalue()


# -- plain data --------------------------------------------------------------------------------


@given(touches)
def test_touch_ups_as_plain_data_and_back_are_the_same(steps: list[Touch]) -> None:
    assert list(touches_of(json.loads(json.dumps(plain_touches(steps))))) == steps


def test_unknown_touch_ups_are_refused() -> None:
    with pytest.raises(ValueError, match="no touch-up 'melt'"):
        touches_of([{"kind": "melt"}])


@given(st.integers(1, 60), st.integers(1, 60), touches)
def test_sizes_are_predicted_without_pixels(width: int, height: int, steps: list[Touch]) -> None:
    assert touched(noise(width, height), steps).size == touched_size(width, height, steps)


@given(
    st.integers(1, 5000),
    st.integers(1, 5000),
    st.integers(0, 3000),
    st.integers(1, 3000),
    st.sampled_from(["fit", "fill", "stretch"]),
)
def test_nothing_is_ever_made_larger(width: int, height: int, wide: int, tall: int, way: str) -> None:
    found = sized(width, height, Size(wide, tall, way))  # type: ignore[arg-type]
    if found is None:
        return
    assert found[0] <= width
    assert found[1] <= height
    assert found != (width, height)
    if wide:
        assert found[0] <= wide
    assert found[1] <= tall


@given(st.integers(1, 4000), st.integers(1, 4000), st.integers(1, 4000), st.integers(1, 4000), parts, parts)
def test_a_cut_lies_inside_and_is_as_large_as_it_can_be(
    width: int, height: int, wide: int, tall: int, x: float, y: float
) -> None:
    boxes = [cut(width, height, (wide, tall), (x, y))]
    boxes += [cut_at_place(width, height, (wide, tall), place) for place in PLACES]
    for left, top, right, bottom in boxes:
        assert 0 <= left <= right <= width
        assert 0 <= top <= bottom <= height
        assert right - left == width or bottom - top == height


@given(parts, parts, st.integers(8, 300), st.integers(8, 300), touches)
def test_a_point_follows_its_place(x: float, y: float, width: int, height: int, steps: list[Touch]) -> None:
    moved = touched_point((x, y), width, height, steps)
    assert all(0 <= value <= 1 for value in moved)


def test_a_point_is_where_the_pixels_went() -> None:
    dark = np.zeros((80, 120, 3), np.uint8)
    dark[18:23, 88:93] = 255
    steps: list[Touch] = [
        Rotation(1, True),
        Crop(0.0, 0.05, 0.9, 0.9, 4.0),
        Rotation(2),
        Crop(0.1, 0.0, 0.9, 1.0),
    ]
    out = touched(Pixels(dark), steps).rgb[..., 0]
    rows, columns = np.nonzero(out > 120)
    x, y = touched_point((90.5 / 120, 20.5 / 80), 120, 80, steps)
    assert abs(columns.mean() + 0.5 - x * out.shape[1]) < 1.5
    assert abs(rows.mean() + 0.5 - y * out.shape[0]) < 1.5


@given(st.integers(1, 900), st.integers(1, 900), touches)
def test_recipes_with_shapes_as_plain_data_and_back(width: int, height: int, steps: list[Touch]) -> None:
    size = Size(width, height, "fill", "focus", True, "webp", Sharpening(0.4, 0.8, 3))
    recipe = Recipe(
        touches=tuple(steps), size=size, watermark=Watermark(words="Ledge", width=0.3), focus=(0.25, 0.75)
    )
    assert Recipe.from_dict(json.loads(json.dumps(recipe.as_dict()))) == recipe
    assert recipe.shapes
    assert not Recipe().shapes


def test_a_watermarks_bytes_stay_out_of_the_records() -> None:
    recipe = Recipe(watermark=Watermark(sha256="ab", data=b"secret"))
    assert "secret" not in repr(recipe.as_dict())
    assert recipe == Recipe.from_dict(recipe.as_dict()), "the digest stands for them"


# -- touch-ups ---------------------------------------------------------------------------------


@given(st.integers(1, 40), st.integers(1, 40), touches, st.booleans())
def test_any_steps_on_any_pixels_come_to_pixels(
    width: int, height: int, steps: list[Touch], alpha: bool
) -> None:
    pixels = noise(width, height, alpha=alpha)
    before = pixels.rgb.copy()
    out = touched(pixels, steps)
    assert out.rgb.dtype == np.uint8
    assert (out.alpha is None) == (not alpha)
    assert np.array_equal(pixels.rgb, before), "what they are made from stays"
    again = touched(pixels, steps)
    assert np.array_equal(out.rgb, again.rgb)


def test_no_amount_changes_nothing() -> None:
    pixels = noise(40, 30)
    for step in (Crop(), Rotation(), Brightness(), Contrast(), Saturation(), Sharpen(0.0)):
        assert np.array_equal(touched(pixels, [step]).rgb, pixels.rgb), step
    assert np.abs(touched(pixels, [White((120, 120, 120))]).rgb.astype(int) - pixels.rgb).max() <= 1


@given(st.floats(-100, 100), st.floats(-100, 100))
def test_curves_rise_and_keep_black_and_white(brightness: float, contrast: float) -> None:
    ramp = np.repeat(np.arange(256, dtype=np.uint8)[None, :, None], 3, axis=2)
    out = touched(Pixels(ramp), [Brightness(brightness), Contrast(contrast)]).rgb[0, :, 0].astype(int)
    assert (np.diff(out) >= 0).all()
    assert (out[0], out[-1]) == (0, 255)


def test_the_point_that_is_to_be_white_becomes_neutral() -> None:
    tinted = np.full((4, 4, 3), (230, 200, 150), np.uint8)
    out = touched(Pixels(tinted), [White((230, 200, 150))]).rgb[0, 0].astype(int)
    assert out.max() - out.min() <= 1


def test_grey_keeps_light_and_saturation_goes_both_ways() -> None:
    green = Pixels(np.full((2, 2, 3), (0, 255, 0), np.uint8))
    assert touched(green, [Grey()]).rgb[0, 0].tolist() == [220, 220, 220], "of green seven tenths of light"
    dull = Pixels(np.full((2, 2, 3), (140, 120, 110), np.uint8))
    spread = [
        int(np.ptp(touched(dull, [Saturation(amount)]).rgb[0, 0])) for amount in (-100, -50, 0, 50, 100)
    ]
    assert spread == sorted(spread)
    assert spread[0] == 0


def test_turning_four_times_and_mirroring_twice_is_nothing() -> None:
    pixels = noise(31, 17, alpha=True)
    out = touched(pixels, [Rotation(1)] * 4 + [Rotation(0, True)] * 2)
    assert np.array_equal(out.rgb, pixels.rgb)
    assert out.alpha is not None
    assert np.array_equal(out.alpha, pixels.alpha)
    assert touched(pixels, [Rotation(1)]).rgb[0, -1].tolist() == pixels.rgb[0, 0].tolist(), "with the clock"


def test_curves_in_a_row_are_rounded_once() -> None:
    ramp = Pixels(np.repeat(np.arange(256, dtype=np.uint8)[None, :, None], 3, axis=2))
    there_and_back = touched(ramp, [Brightness(60), Brightness(-60)])
    assert np.array_equal(there_and_back.rgb, ramp.rgb)


# -- looking while they are made -----------------------------------------------------------------


def test_what_is_looked_at_is_what_comes() -> None:
    steps = (Rotation(1), Crop(0.1, 0.1, 0.8, 0.8), Brightness(20), Sharpen(1.0, 0.8, 2), Contrast(10))
    pixels = upright(as_file(scene(600, 400)), Recipe and _limits())
    first, local = split(steps)
    assert [one.kind for one in local] == ["brightness", "sharpen", "contrast"]
    moved = touched(pixels, first)
    full = touched(pixels, steps)
    seen = decode(part(moved, local, 0.25, 0.5, 120, 90))
    left, top = round(0.25 * full.size[0]), round(0.5 * full.size[1])
    wanted = full.rgb[top : top + 90, left : left + 120].astype(int)
    assert np.abs(seen.rgb.astype(int) - wanted).mean() < 4, "but for the codec the very pixels"
    small = decode(whole(moved, local, 100, 100))
    assert max(small.size) == 100
    assert decode(part(moved, local, 1.0, 1.0, 5000, 5000)).size == moved.size, "never more than there is"


def _limits():  # type: ignore[no-untyped-def]
    from plumcrate.imaging import Limits

    return Limits()


# -- files -------------------------------------------------------------------------------------


@pytest.mark.parametrize("kind", ["JPEG", "PNG", "WEBP", "AVIF", "GIF"])
@pytest.mark.parametrize("wanted", [None, "jpeg", "png", "webp", "avif"])
def test_a_size_of_any_format_in_any_format(kind: str, wanted: str | None) -> None:
    image = scene(160, 120)
    data = as_file(image.quantize(200) if kind == "GIF" else image, kind)
    recipe = Recipe(size=Size(80, 60, "fill", "centre", format=wanted), copies=frozenset({"webp"}))
    made = treat(data, recipe)
    expected = wanted or {"GIF": "png"}.get(kind, kind.lower())
    assert made.main.format == expected
    assert isinstance(made.main, Chosen)
    facts = identify(made.main.data)
    assert (facts.format, facts.width, facts.height) == (expected, 80, 60)
    assert made.facts.shown_size == (80, 60)
    assert made.main.score is not None
    assert made.main.score >= TARGETS[Level.EVERYDAY] - 0.5
    for copy in made.of("copy"):
        if isinstance(copy, Chosen):
            assert copy.size < made.main.size
            assert decode(copy.data).size == (80, 60)


@pytest.mark.parametrize("orientation", range(1, 9))
def test_what_is_shaped_stands_upright_and_says_so(orientation: int) -> None:
    image = scene(200, 120)
    exif = Image.Exif()
    exif[0x0112] = orientation
    exif[0x8298] = "Gannet Ledge Light Trust"
    data = as_file(image, exif=exif.tobytes())
    made = treat(data, Recipe(touches=(Brightness(5),), copies=frozenset({"webp"})))
    assert isinstance(made.main, Chosen)
    facts = identify(made.main.data)
    shown = (200, 120) if orientation < 5 else (120, 200)
    assert (facts.orientation, (facts.width, facts.height)) == (1, shown)
    assert b"Gannet Ledge Light Trust" in made.main.data, "whose it is stays"
    from PIL import ImageOps

    wanted = np.asarray(ImageOps.exif_transpose(Image.open(io.BytesIO(data))).convert("RGB")).astype(int)
    assert np.abs(decode(made.main.data).rgb.astype(int) - wanted).mean() < 16


def test_colour_profiles_go_along_and_fit() -> None:
    from PIL import ImageCms

    wide = ImageCms.ImageCmsProfile(ImageCms.createProfile("LAB")).tobytes()
    image = scene(120, 90)
    for kind in ("JPEG", "PNG"):
        made = treat(as_file(image, kind, icc_profile=wide), Recipe(size=Size(60, 0), copies=frozenset()))
        assert isinstance(made.main, Chosen)
        assert Image.open(io.BytesIO(made.main.data)).info["icc_profile"] == wide
    other = treat(
        as_file(image, "PNG", icc_profile=wide), Recipe(size=Size(60, 0, format="jpeg"), copies=frozenset())
    )
    assert isinstance(other.main, Chosen)
    assert Image.open(io.BytesIO(other.main.data)).info["icc_profile"] == wide


def test_a_long_profile_is_written_in_parts() -> None:
    from plumcrate.imaging.metadata.in_jpeg import built_segments, is_profile

    profile = bytes(range(256)) * 700
    segments = built_segments(profile, b"", None)
    assert len(segments) == 3
    assert all(is_profile(one) and len(one) <= 65_537 for one in segments)
    assert b"".join(one[18:] for one in segments) == profile


def test_printing_colours_become_screen_colours() -> None:
    made = treat(as_file(scene(120, 90, "CMYK")), Recipe(size=Size(60, 0), copies=frozenset()))
    assert isinstance(made.main, Chosen)
    assert Image.open(io.BytesIO(made.main.data)).mode == "RGB"


def test_transparency_is_kept_or_laid_on_white() -> None:
    image = scene(120, 90).convert("RGBA")
    image.putalpha(Image.linear_gradient("L").resize((120, 90)))
    data = as_file(image, "PNG")
    kept = treat(data, Recipe(size=Size(60, 0), copies=frozenset()))
    assert isinstance(kept.main, Chosen)
    assert decode(kept.main.data).alpha is not None
    flat = treat(data, Recipe(size=Size(60, 0, format="jpeg"), copies=frozenset()))
    assert isinstance(flat.main, Chosen)
    assert decode(flat.main.data).rgb[1].min() > 200, "white shows where nothing was"


def test_the_exact_level_is_exact_where_the_format_can_be() -> None:
    data = as_file(scene(120, 90), "PNG")
    recipe = Recipe(Level.EXACT, size=Size(60, 0), copies=frozenset())
    made = treat(data, recipe)
    assert isinstance(made.main, Chosen)
    assert np.array_equal(decode(made.main.data).rgb, shaped(decode(data), recipe).rgb)
    photo = treat(as_file(scene(120, 90)), recipe)
    assert photo.main.score is not None
    assert photo.main.score >= TARGETS[Level.GALLERY] - 0.5, "a JPEG is made at the next level"


@pytest.mark.parametrize("size", [(1, 1), (2, 3), (7, 5), (16, 16)])
def test_tiny_pictures_are_shaped_too(size: tuple[int, int]) -> None:
    for kind in ("JPEG", "PNG", "WEBP"):
        made = treat(as_file(scene(*size), kind), Recipe(touches=(Grey(),), copies=frozenset()))
        assert isinstance(made.main, Chosen)
        assert decode(made.main.data).size == size


def test_a_result_is_taken_though_it_is_larger_than_the_file() -> None:
    coarse = as_file(scene(300, 200), quality=8)
    made = treat(coarse, Recipe(touches=(Contrast(40), Sharpen(2.0)), copies=frozenset({"avif"})))
    assert isinstance(made.main, Chosen)
    assert made.size_after == made.main.size


def test_a_gif_is_never_written_as_something_else() -> None:
    data = as_file(scene(80, 60).quantize(64), "GIF")
    with pytest.raises(LeftAlone, match="GIFs are not"):
        treat(data, Recipe(touches=(Grey(),)))
    kept = treat(data, Recipe(sharpen_all=True, sharpening=Sharpening(1.0), copies=frozenset()))
    assert kept.main.format == "gif"


def test_every_picture_is_sharpened_where_the_recipe_says_so_but_not_at_exact() -> None:
    image = scene(160, 120)
    data = as_file(image)
    plain = Recipe(copies=frozenset())
    every = Recipe(copies=frozenset(), sharpening=Sharpening(2.0, 1.0, 0), sharpen_all=True)
    assert every.shapes
    assert not Recipe(Level.EXACT, sharpening=Sharpening(2.0), sharpen_all=True).shapes
    assert not Recipe(sharpen_all=True).shapes, "by nothing"
    made = treat(data, every).main
    assert isinstance(made, Chosen)
    first, second = (decode(one).rgb.astype(int) for one in (data, made.data))
    assert np.abs(np.diff(second, axis=1)).mean() > np.abs(np.diff(first, axis=1)).mean()
    once = treat(data, Recipe(copies=frozenset(), largest=(80, 80), sharpening=Sharpening(2.0, 1.0, 0)))
    both = Recipe(copies=frozenset(), largest=(80, 80), sharpening=Sharpening(2.0, 1.0, 0), sharpen_all=True)
    again = treat(data, both)
    assert isinstance(once.main, Chosen)
    assert isinstance(again.main, Chosen)
    small = [decode(one.main.data).rgb.astype(int) for one in (once, again) if isinstance(one.main, Chosen)]
    assert np.abs(small[0] - small[1]).mean() < 4, "sharpened once, not twice"
    assert treat(data, plain).main.format == "jpeg"


def test_moving_pictures_are_left_alone() -> None:
    frames = [scene(40, 30).quantize(32) for _ in range(2)]
    frames[1].paste(3, (0, 0, 9, 9))
    out = io.BytesIO()
    frames[0].save(out, "GIF", save_all=True, append_images=frames[1:])
    with pytest.raises(LeftAlone, match="moving pictures"):
        treat(out.getvalue(), Recipe(touches=(Grey(),)))
