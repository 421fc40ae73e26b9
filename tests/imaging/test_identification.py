"""Identifying by content, against Pillow for what is sound, and against anything at all for safety."""

import contextlib
import io

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from plumcrate.demo.world import enormous_png, mess
from plumcrate.imaging import ImagingError, identify
from plumcrate.imaging.errors import MoreDataNeeded, NotAPicture


def saved(mode: str, kind: str, size: tuple[int, int] = (37, 21), **options: object) -> bytes:
    out = io.BytesIO()
    Image.effect_noise(size, 60).convert(mode).save(out, kind, **options)
    return out.getvalue()


SAMPLES = {
    "jpeg": saved("RGB", "JPEG"),
    "jpeg progressive": saved("RGB", "JPEG", progressive=True),
    "jpeg grey": saved("L", "JPEG"),
    "png": saved("RGB", "PNG"),
    "png alpha": saved("RGBA", "PNG"),
    "png palette": saved("P", "PNG"),
    "gif": saved("P", "GIF"),
    "webp": saved("RGB", "WEBP"),
    "webp lossless": saved("RGBA", "WEBP", lossless=True),
    "avif": saved("RGB", "AVIF"),
    "bmp": saved("RGB", "BMP"),
}


@pytest.mark.parametrize("name", SAMPLES)
def test_agrees_with_pillow(name: str) -> None:
    facts = identify(SAMPLES[name])
    with Image.open(io.BytesIO(SAMPLES[name])) as image:
        assert (facts.format, facts.width, facts.height) == (image.format.lower(), *image.size)
    assert facts.progressive == ("progressive" in name)
    assert facts.alpha == ("alpha" in name)


@pytest.mark.parametrize("orientation", range(1, 9))
@pytest.mark.parametrize("kind", ["JPEG", "PNG"])
def test_orientation(kind: str, orientation: int) -> None:
    exif = Image.Exif()
    exif[0x0112] = orientation
    facts = identify(saved("RGB", kind, exif=exif))
    assert facts.orientation == orientation
    assert facts.shown_size == ((21, 37) if orientation >= 5 else (37, 21))


def test_animation_and_the_mess() -> None:
    frames = [Image.effect_noise((20, 20), 80).convert("RGB") for _ in range(3)]
    for kind in ("GIF", "PNG", "WEBP"):
        out = io.BytesIO()
        frames[0].save(out, kind, save_all=True, append_images=frames[1:], duration=100)
        assert identify(out.getvalue()).animated
    found = dict(mess(np.random.default_rng(1)))
    assert identify(found["actually-a-png.jpg"]).format == "png"
    assert identify(found["press-cmyk.jpg"]).colour == "cmyk"
    assert identify(found["sixteen-bit.png"]).bits == 16
    assert identify(found["brand-mark.svg"]).format == "svg"
    assert identify(found["forty-thousand.png"]).pixels == 1_600_000_000
    for name in ("error-page.jpg", "empty.png"):
        with pytest.raises(NotAPicture):
            identify(found[name])


def test_the_first_part_of_a_file_is_enough_or_more_is_asked_for() -> None:
    exif = Image.Exif()
    exif[0x010E] = "a long description " * 3000
    data = saved("RGB", "JPEG", exif=exif)
    with pytest.raises(MoreDataNeeded):
        identify(data[:4096])
    assert identify(data).width == 37
    assert identify(enormous_png(500, 400)[:64]).width == 500


@given(
    data=st.one_of(
        st.binary(max_size=200),
        st.builds(
            lambda sample, at, patch, cut: (sample[:at] + patch + sample[at + len(patch) :])[:cut],
            st.sampled_from(list(SAMPLES.values())),
            st.integers(0, 400),
            st.binary(min_size=1, max_size=12),
            st.integers(0, 3000),
        ),
    )
)
def test_anything_at_all_is_answered_or_refused(data: bytes) -> None:
    with contextlib.suppress(ImagingError):  # any other error fails the test
        facts = identify(data)
        assert facts.width >= 0
        assert 1 <= facts.orientation <= 8
