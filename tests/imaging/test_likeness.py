"""A picture is known again whatever its size, format and quality; another is not taken for it."""

import io
from collections.abc import Callable
from functools import cache

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image, ImageEnhance, ImageOps

from plumcrate.demo.painter.scenes import SCENES
from plumcrate.imaging import Limits
from plumcrate.imaging.fingerprint import fingerprint
from plumcrate.imaging.likeness import LENGTH, Fingerprint, Originals

NAMES = sorted(SCENES)


@cache
def scene(name: str, seed: int = 1) -> Image.Image:
    painted = SCENES[name](np.random.default_rng(seed), 480, 320, seed)
    return Image.fromarray((painted.clip(0, 1) * 255).astype(np.uint8))


def seen(name: str, image: Image.Image, form: str = "JPEG", quality: int = 90) -> Fingerprint:
    out = io.BytesIO()
    image.save(out, form, quality=quality)
    width, height, shown = fingerprint(out.getvalue(), Limits())
    assert (width, height) == image.size
    assert len(shown) == LENGTH
    return Fingerprint(name, width, height, shown)


@pytest.fixture(scope="module")
def originals() -> Originals:
    known = Originals()
    for name in NAMES:
        assert known.add(seen(name, scene(name)))
    return known


@given(
    st.sampled_from(NAMES),
    st.integers(60, 479),
    st.sampled_from(["JPEG", "WEBP", "PNG"]),
    st.integers(40, 95),
)
def test_a_smaller_file_finds_its_original(
    originals: Originals, name: str, width: int, form: str, quality: int
) -> None:
    smaller = scene(name).resize((width, max(1, round(width * 320 / 480))), Image.Resampling.LANCZOS)
    found = originals.original_of(seen("smaller", smaller, form, quality))
    assert found is not None
    assert found.name == name


OTHERS: dict[str, Callable[[Image.Image], Image.Image]] = {
    "mirrored": ImageOps.mirror,
    "turned over": ImageOps.flip,
    "cut": lambda image: image.resize((480, 320)).crop((60, 40, 300, 200)),
    "tinted": lambda image: Image.blend(image, Image.new("RGB", image.size, (200, 90, 40)), 0.15),
    "darker": lambda image: ImageEnhance.Brightness(image).enhance(0.8),
}


@pytest.mark.parametrize("name", NAMES)
@pytest.mark.parametrize("what", [*OTHERS, "painted anew"])
def test_what_shows_something_else_finds_none(originals: Originals, name: str, what: str) -> None:
    if what == "painted anew":
        image = scene(name, 2).resize((240, 160))
    else:
        image = OTHERS[what](scene(name).resize((240, 160)))
    assert originals.original_of(seen(what, image)) is None


def test_the_largest_of_several_is_the_original(originals: Originals) -> None:
    known = Originals()
    for width in (200, 480, 320):
        known.add(seen(f"{width} wide", scene("headland").resize((width, round(width * 2 / 3)))))
    for width, original in ((100, "480 wide"), (320, "480 wide"), (480, None), (600, None)):
        found = known.original_of(seen("it", scene("headland").resize((width, round(width * 2 / 3)))))
        assert (found.name if found else None) == original


def test_between_two_that_are_nearly_the_same_nobody_can_tell() -> None:
    first = scene("headland")
    second = ImageEnhance.Brightness(first).enhance(1.07)
    known = Originals()
    for name, image in (("first", first), ("second", second)):
        known.add(seen(name, image))
    between = ImageEnhance.Brightness(first).enhance(1.03).resize((240, 160))
    assert known.original_of(seen("it", between)) is None


def test_a_plain_picture_is_not_known_by_what_it_shows() -> None:
    known = Originals()
    assert not known.add(seen("plain", Image.new("RGB", (300, 200), (120, 90, 60))))


def test_a_turned_photograph_is_seen_upright_and_what_is_transparent_on_grey() -> None:
    image = scene("headland").copy()
    exif = image.getexif()
    exif[0x0112] = 6
    out = io.BytesIO()
    image.save(out, "JPEG", exif=exif)
    width, height, _ = fingerprint(out.getvalue(), Limits())
    assert (width, height) == (320, 480)
    clear = Image.new("RGBA", (40, 40), (255, 0, 0, 0))
    grey = Image.new("RGB", (40, 40), (128, 128, 128))
    assert seen("clear", clear, "PNG").data == seen("grey", grey, "PNG").data


def test_many_files_are_compared_with_few_each(monkeypatch: pytest.MonkeyPatch) -> None:
    """Random pictures: the comparisons for each file do not grow with their number."""
    asked = 0

    def counted(file: Fingerprint, other: Fingerprint) -> bool:
        nonlocal asked
        asked += 1
        return False

    monkeypatch.setattr("plumcrate.imaging.likeness._may_be_of", counted)
    chance = np.random.default_rng(1)

    def comparisons(count: int) -> float:
        nonlocal asked
        known, files = Originals(), list[Fingerprint]()
        for number in range(count):
            coarse = np.kron(chance.integers(0, 255, (4, 4)), np.ones((4, 4))).astype(np.uint8)
            shown = coarse.tobytes() + bytes([128] * 32)
            files.append(Fingerprint(str(number), 30, 20, shown))
            known.add(files[-1])
        asked = 0
        for file in files:
            known.original_of(file)
        return asked / count

    assert comparisons(4_000) < 0.02 * 4_000
