"""A part of a picture as a file of its own: of the place asked for, however the picture is turned."""

import io

import numpy as np
import pytest
from PIL import Image, ImageOps

from plumcrate.imaging.sample import part_of

SIDE = 640


@pytest.fixture(scope="module")
def marked() -> Image.Image:
    """A picture with another colour in each of nine fields."""
    fields = np.arange(9).reshape(3, 3)
    colours = np.stack([40 + 25 * fields, 240 - 25 * fields, np.full((3, 3), 128)], axis=-1).astype(np.uint8)
    return Image.fromarray(colours).resize((SIDE * 2, SIDE), Image.Resampling.NEAREST)


def saved(image: Image.Image, orientation: int, kind: str) -> bytes:
    """The picture stored so that it is upright once it is turned as its orientation says."""
    undo = {2: [0], 3: [3], 4: [1], 5: [5], 6: [2], 7: [6], 8: [4]}
    stored = image
    for step in undo.get(orientation, []):
        stored = stored.transpose(Image.Transpose(step))
    exif = Image.Exif()
    exif[274] = orientation
    out = io.BytesIO()
    stored.save(out, kind, exif=exif, **({"quality": 95} if kind == "JPEG" else {}))
    with Image.open(io.BytesIO(out.getvalue())) as again:
        assert ImageOps.exif_transpose(again).size == image.size
    return out.getvalue()


@pytest.mark.parametrize("kind", ["JPEG", "PNG"])
@pytest.mark.parametrize("orientation", range(1, 9))
@pytest.mark.parametrize(("x", "y"), [(0.1, 0.1), (0.5, 0.5), (0.9, 0.2), (0.2, 0.85)])
def test_a_part_shows_what_is_at_its_place_and_as_upright_as_the_whole(
    marked: Image.Image, kind: str, orientation: int, x: float, y: float
) -> None:
    part = part_of(saved(marked, orientation, kind), x, y, 10_000)
    with Image.open(io.BytesIO(part.data)) as image:
        upright = ImageOps.exif_transpose(image).convert("RGB")
    assert image.size == (part.width, part.height)
    assert upright.width * upright.height <= 10_000
    assert (upright.width > upright.height) == (marked.width > marked.height)
    assert (part.left % 16, part.top % 16) == (0, 0)
    expected = np.asarray(marked.getpixel((int(x * marked.width), int(y * marked.height))), np.int16)
    found = np.asarray(upright, np.int16)
    assert (np.abs(found - expected).max(axis=-1) < 12).mean() > 0.5


def test_a_part_keeps_the_profile_that_its_numbers_mean_something_in(marked: Image.Image) -> None:
    out = io.BytesIO()
    marked.save(out, "JPEG", icc_profile=b"a profile of nobody's")
    with Image.open(io.BytesIO(part_of(out.getvalue(), 0.5, 0.5, 10_000).data)) as image:
        assert image.info["icc_profile"] == b"a profile of nobody's"
