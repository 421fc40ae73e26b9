"""Every odd file is treated or declined with a reason, as the documentation says; and keeps its promise."""

import io
from pathlib import Path

import numpy as np
import pytest
from odd import odd_files, outcome, table
from outputs import data_of
from PIL import Image

from plumcrate.imaging import ImagingError, Limits, Recipe, identify, score, treat

FILES = odd_files()
DOCUMENT = Path(__file__).parents[2] / "docs/imaging/odd-files.md"


def test_the_documentation_says_what_happens() -> None:
    assert table() in DOCUMENT.read_text(encoding="utf-8"), "run: python tests/imaging/odd.py"


@pytest.mark.parametrize("name", list(FILES))
def test_what_is_written_opens_and_keeps_the_promise(name: str) -> None:
    data = FILES[name]
    recipe, limits = Recipe(), Limits(50_000_000)
    if outcome(data)[0].startswith("declined"):
        with pytest.raises(ImagingError, match=r"\w+ \w+ \w+") as caught:
            treat(data, recipe, limits)
        assert caught.value.code in ("damaged", "not-a-picture", "too-large", "left-alone")
        return
    treatment = treat(data, recipe, limits)
    facts = identify(data)
    for output in (treatment.main, *treatment.of("copy")):
        if data_of(output) is None:
            continue
        assert len(data_of(output)) < len(data)
        with Image.open(io.BytesIO(data_of(output))) as image:
            image.load()
            if output is treatment.main:
                assert image.size == (facts.width, facts.height)
                assert identify(data_of(output)).orientation == facts.orientation
            else:
                assert image.size == facts.shown_size
    main = treatment.main
    if data_of(main) is not None and facts.bits == 8 and not facts.animated and facts.colour != "cmyk":
        if main.score == 100.0:
            with Image.open(io.BytesIO(data)) as one, Image.open(io.BytesIO(data_of(main))) as other:
                assert np.array_equal(np.asarray(one.convert("RGBA")), np.asarray(other.convert("RGBA")))
        else:
            assert score(data, data_of(main)) >= 79.5


def test_turned_pictures_are_upright_in_their_copies() -> None:
    with Image.open(io.BytesIO(FILES["orientation-1.jpg"])) as image:
        upright = np.asarray(image.convert("RGB")).astype(int)
    from PIL import ImageOps

    for value in range(1, 9):
        data = FILES[f"orientation-{value}.jpg"]
        with Image.open(io.BytesIO(data)) as image:
            turned = ImageOps.exif_transpose(image)
            assert turned is not None
            wanted = np.asarray(turned.convert("RGB")).astype(int)
        assert value == 1 or wanted.shape != upright.shape or np.abs(wanted - upright).mean() > 10
        made = [kept for copy in treat(data, Recipe()).of("copy") if (kept := data_of(copy)) is not None]
        assert made
        for copy in made:
            with Image.open(io.BytesIO(copy)) as image:
                assert np.abs(np.asarray(image.convert("RGB")).astype(int) - wanted).mean() < 6
