"""How a picture looks in its place: our drawing against the browser's own."""

from __future__ import annotations

import io
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from conftest import photograph
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image
from playwright.sync_api import Page, sync_playwright

from plumcrate.imaging.errors import LeftAlone
from plumcrate.imaging.pixels import to_pixels
from plumcrate.imaging.scoring import Judge
from plumcrate.imaging.seen import draw, seen
from plumcrate.pages.process import find_browser

#: File size, size of its place in CSS pixels, density: twenty pictures as pages show them.
SHOWN = [
    ((1333, 999), (1200, 899), 1.0),
    ((1333, 999), (700, 525), 1.0),
    ((1333, 999), (640, 480), 1.0),
    ((1333, 999), (333, 250), 1.0),
    ((1333, 999), (160, 120), 1.0),
    ((1333, 999), (1600, 1199), 1.0),
    ((800, 600), (412, 309), 2.625),
    ((800, 600), (200, 150), 2.625),
    ((800, 600), (150, 112), 2.0),
    ((801, 601), (400, 300), 1.0),
    ((801, 601), (399, 301), 1.0),
    ((801, 601), (266, 200), 1.5),
    ((1024, 683), (1024, 683), 1.0),
    ((1024, 683), (512, 341), 1.0),
    ((1024, 683), (511, 340), 1.0),
    ((1024, 683), (256, 171), 1.0),
    ((1024, 683), (300, 400), 1.0),
    ((640, 427), (380, 253), 2.625),
    ((640, 427), (320, 213), 1.0),
    ((1201, 400), (603, 201), 1.0),
]


@pytest.fixture(scope="module")
def browser_page() -> Iterator[Page]:
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(
            executable_path=find_browser(),
            args=["--no-sandbox", "--disable-gpu", "--force-color-profile=srgb"],
        )
        yield browser  # type: ignore[misc]
        browser.close()


@pytest.mark.skipif(find_browser() is None, reason="no Chromium on this machine")
@pytest.mark.parametrize(
    ("size", "place", "density"),
    [pytest.param(*shown, marks=[pytest.mark.slow] * bool(at % 4)) for at, shown in enumerate(SHOWN)],
)
def test_the_score_is_that_of_the_browsers_own_rendering(
    browser_page: Page, tmp_path: Path, size: tuple[int, int], place: tuple[int, int], density: float
) -> None:
    """Within a point, for a result that has lost as much as ours lose, and more."""
    original = tmp_path / "original.png"
    photograph(tmp_path / "p.jpg", *size, seed=sum(place))
    Image.open(tmp_path / "p.jpg").save(original)
    served = tmp_path / "served.jpg"
    Image.open(original).convert("RGB").save(served, quality=55)
    context = browser_page.new_context(  # type: ignore[attr-defined]
        viewport={"width": place[0], "height": place[1]}, device_scale_factor=density
    )
    shots = []
    for name in ("original.png", "served.jpg"):
        page = context.new_page()
        (tmp_path / "page.html").write_text(
            f'<body style="margin:0"><img src="{name}" '
            f'style="display:block;width:{place[0]}px;height:{place[1]}px">'
        )
        page.goto(f"file://{tmp_path}/page.html")
        shots.append(to_pixels(Image.open(io.BytesIO(page.screenshot())).convert("RGB")))
        page.close()
    context.close()
    width, height = shots[0].size
    theirs = Judge(shots[0]).score(shots[1])
    ours = seen(served.read_bytes(), original.read_bytes(), width, height)
    assert ours.score == pytest.approx(theirs, abs=1.0)


def picture(seed: int, width: int, height: int) -> Image.Image:
    values = np.random.default_rng(seed).integers(0, 256, (height, width, 3), np.uint8)
    return Image.fromarray(values)


@given(st.integers(1, 90), st.integers(1, 90), st.integers(1, 120), st.integers(1, 120), st.integers(0, 255))
def test_any_size_is_drawn_and_an_even_colour_stays(
    width: int, height: int, wide: int, high: int, grey: int
) -> None:
    drawn = draw(Image.new("RGB", (width, height), (grey, grey, 255 - grey)), wide, high)
    assert drawn.size == (wide, high)
    assert np.abs(np.asarray(drawn).astype(int) - (grey, grey, 255 - grey)).max() <= 1


def test_half_its_size_is_the_mean_of_two_by_two() -> None:
    image = picture(1, 64, 40)
    expected = np.asarray(image).reshape(20, 2, 32, 2, 3).mean(axis=(1, 3))
    assert np.abs(np.asarray(draw(image, 32, 20)) - expected).max() <= 1
    assert np.array_equal(np.asarray(draw(image, 64, 40)), np.asarray(image))


def encoded(image: Image.Image, kind: str = "PNG", **options: object) -> bytes:
    out = io.BytesIO()
    image.save(out, kind, **options)  # type: ignore[arg-type]
    return out.getvalue()


def test_the_same_is_seen_as_the_same_whatever_the_file() -> None:
    image = picture(2, 200, 120)
    found = seen(encoded(image), encoded(image, "WEBP", lossless=True), 100, 60)
    assert found.score > 99.9


def test_a_small_file_in_a_large_place_looks_soft(tmp_path: Path) -> None:
    photograph(tmp_path / "p.jpg", 800, 600)
    image = Image.open(tmp_path / "p.jpg")
    small, enough = (encoded(image.resize(size), "JPEG", quality=95) for size in ((200, 150), (800, 600)))
    original = encoded(image)
    assert seen(small, original, 800, 600).score < 50
    assert seen(enough, original, 800, 600).score > 85
    assert seen(small, original, 200, 150).score > 70, "in its own size it is fine"


def test_the_worst_place_is_where_it_was_spoiled(tmp_path: Path) -> None:
    photograph(tmp_path / "p.jpg", 640, 480)
    original = Image.open(tmp_path / "p.jpg").convert("RGB")
    spoiled = original.copy()
    spoiled.paste((200, 30, 30), (480, 60, 560, 120))
    found = seen(encoded(spoiled), encoded(original), 320, 240)
    assert found.worst < found.score
    assert 0.7 < found.left < 0.92
    assert 0.05 < found.top < 0.35


def test_a_picture_that_lies_on_its_side_is_drawn_upright(tmp_path: Path) -> None:
    data = photograph(tmp_path / "p.jpg", 300, 200)
    image = Image.open(io.BytesIO(data))
    exif = Image.Exif()
    exif[274] = 6
    turned = encoded(image.transpose(Image.Transpose.ROTATE_90), "JPEG", quality=97, exif=exif)
    assert seen(turned, encoded(image), 150, 100).score > 80


def test_transparency_is_judged_on_dark_and_light() -> None:
    image = picture(3, 80, 80).convert("RGBA")
    clear = image.copy()
    clear.putalpha(120)
    assert seen(encoded(clear), encoded(image), 80, 80).score < 70
    assert seen(encoded(clear), encoded(clear), 40, 40).score > 99


@pytest.mark.parametrize("place", [(15, 100), (100, 15), (10_000, 10_000)])
def test_a_place_in_which_nothing_can_be_judged(place: tuple[int, int]) -> None:
    data = encoded(picture(4, 60, 60))
    with pytest.raises(LeftAlone):
        seen(data, data, *place)
