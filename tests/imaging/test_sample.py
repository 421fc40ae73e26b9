"""Parts of large pictures stand for the whole, and small pictures of pictures for lists."""

import io
from types import SimpleNamespace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image
from PIL.JpegImagePlugin import get_sampling

from plumcrate.imaging import Level, Limits, Recipe, treat
from plumcrate.imaging.errors import ImagingError
from plumcrate.imaging.preview import preview
from plumcrate.imaging.recipe import SAMPLE
from plumcrate.imaging.sample import measure, middle


def saved(image: Image.Image, kind: str, **options: object) -> bytes:
    out = io.BytesIO()
    image.save(out, kind, **options)
    return out.getvalue()


def opened(data: bytes) -> Image.Image:
    image = Image.open(io.BytesIO(data))
    image.load()
    return image


@pytest.fixture(scope="module")
def large() -> Image.Image:
    """Four megapixels of soft noise."""
    noise = Image.effect_noise((200, 125), 60).resize((2560, 1600), Image.Resampling.BICUBIC)
    return Image.merge("RGB", (noise, noise.transpose(Image.Transpose.FLIP_LEFT_RIGHT), noise))


@pytest.mark.parametrize("subsampling", [0, 1, 2])
def test_the_middle_of_a_jpeg_is_written_as_the_whole_was(large: Image.Image, subsampling: int) -> None:
    whole = saved(large, "JPEG", quality=83, subsampling=subsampling, progressive=True)
    part = middle(whole)
    one, other = opened(whole), opened(part)
    assert other.width * other.height <= SAMPLE
    assert (other.width % 16, other.height % 16) == (0, 0)
    assert one.quantization == other.quantization
    assert get_sampling(one) == get_sampling(other)
    left, top = ((a - b) // 32 * 16 for a, b in zip(one.size, other.size, strict=True))
    inside = np.asarray(one.crop((left, top, left + other.width, top + other.height)), np.int16)
    assert np.abs(inside - np.asarray(other, np.int16))[8:-8, 8:-8].mean() < 1.0, "on its grid of blocks"


def test_the_middle_of_a_png_is_its_pixels(large: Image.Image) -> None:
    part = opened(middle(saved(large, "PNG")))
    left, top = ((a - b) // 32 * 16 for a, b in zip(large.size, part.size, strict=True))
    assert part.tobytes() == large.crop((left, top, left + part.width, top + part.height)).tobytes()


def test_small_pictures_other_formats_and_nonsense_are_taken_whole(large: Image.Image) -> None:
    small = large.resize((1600, 1200))
    for data in (
        saved(small, "JPEG"),
        saved(small, "PNG"),
        saved(large, "WEBP", quality=50),
        b"",
        saved(large, "JPEG")[:3000],
    ):
        assert middle(data) == data


@pytest.mark.slow
def test_what_is_measured_of_a_part_is_near_what_the_whole_saves(large: Image.Image) -> None:
    data = saved(large, "JPEG", quality=95)
    recipe = Recipe(Level.EVERYDAY, copies=frozenset({"webp"}))
    found = measure(data, recipe, Limits())
    assert found.before == len(data)
    assert found.lightest <= found.after < found.before
    assert found.after == pytest.approx(treat(data, recipe).size_after, rel=0.25)
    assert found.seconds > 0


def test_the_time_of_a_part_is_reckoned_up_to_the_whole(
    large: Image.Image, monkeypatch: pytest.MonkeyPatch
) -> None:
    clock = iter([100.0, 103.0])
    ticking = SimpleNamespace(process_time=lambda: next(clock))
    monkeypatch.setattr("plumcrate.imaging.sample.time", ticking)
    data = saved(large, "JPEG", quality=95)
    part = middle(data)
    seconds = measure(data, Recipe(Level.LEAN, copies=frozenset()), Limits()).seconds
    assert seconds == pytest.approx(3 * len(data) / len(part))
    assert seconds > 6


def test_a_part_that_cannot_be_treated_says_why() -> None:
    with pytest.raises(ImagingError):
        measure(b"nothing at all", Recipe(), Limits())


@given(
    width=st.integers(1, 900),
    height=st.integers(1, 900),
    wanted=st.sampled_from([48, 160, 320]),
    kind=st.sampled_from(["JPEG", "PNG", "GIF", "WEBP"]),
)
def test_a_preview_is_never_wider_than_wanted_and_keeps_its_shape(
    width: int, height: int, wanted: int, kind: str
) -> None:
    image = opened(preview(saved(Image.new("RGB", (width, height), (90, 30, 60)), kind), wanted, Limits()))
    assert image.format == "WEBP"
    assert image.width <= min(width, wanted)
    assert image.height <= min(height, 2 * wanted)
    if min(image.size) > 8:
        assert image.width / image.height == pytest.approx(width / height, rel=0.2)


@pytest.mark.parametrize("orientation", [1, 3, 6, 8])
def test_a_preview_is_upright(orientation: int) -> None:
    image = Image.new("RGB", (200, 100), "white")
    image.paste("black", (0, 0, 200, 20))
    data = saved(image, "JPEG", exif=_turned(orientation))
    shown = np.asarray(opened(preview(data, 160, Limits())).convert("L")).astype(int)
    dark = {
        1: shown[:10].mean(),
        3: shown[-10:].mean(),
        6: shown[:, -10:].mean(),
        8: shown[:, :10].mean(),
    }
    assert min(dark, key=dark.__getitem__) == orientation
    assert (shown.shape[0] > shown.shape[1]) == (orientation in (6, 8))


def _turned(orientation: int) -> Image.Exif:
    exif = Image.Exif()
    exif[0x0112] = orientation
    return exif


def test_sixteen_bits_are_rounded_and_not_cut() -> None:
    values = np.full((40, 40), 65_535 - 100, np.uint16)
    data = saved(Image.fromarray(values), "PNG")
    shown = np.asarray(opened(preview(data, 40, Limits())).convert("L"))
    assert int(shown.mean().round()) == 255


def test_a_preview_of_what_is_too_large_or_broken_is_refused(large: Image.Image) -> None:
    data = saved(large, "PNG")
    for broken, limits in ((data, Limits(1_000_000)), (data[:2000], Limits()), (b"GIF89a", Limits())):
        with pytest.raises(ImagingError):
            preview(broken, 160, limits)
