"""One table of formats: what the core, the contract and the files' names say agrees."""

import io
from itertools import chain

import pytest
from PIL import Image

from plumcrate.contract.common import CopyFormat
from plumcrate.contract.pictures import Purpose
from plumcrate.imaging import Level, Recipe, identify, treat
from plumcrate.imaging.formats import COPIES, FORMATS, KNOBS
from plumcrate.imaging.recipe import FixedQuality
from plumcrate.intake.headers import is_picture
from plumcrate.keeping.derived import Beside


def test_copies_are_those_that_requests_may_name() -> None:
    assert tuple(CopyFormat) == COPIES
    assert set(COPIES) == {name for name, format in FORMATS.items() if format.copy}


def test_every_knob_can_be_fixed() -> None:
    assert set(KNOBS) == set(FixedQuality.__dataclass_fields__)


def test_an_ending_belongs_to_one_format_and_is_a_pictures() -> None:
    endings = list(chain.from_iterable(format.endings for format in FORMATS.values()))
    assert len(endings) == len(set(endings))
    for name, format in FORMATS.items():
        assert format.ending == format.endings[0]
        assert format.treated <= is_picture(f"a{format.ending}"), name


@pytest.mark.parametrize(
    "name", [name for name, format in FORMATS.items() if format.treated and format.pixels]
)
def test_what_is_treated_is_identified_and_comes_out_in_its_own_format(name: str) -> None:
    out = io.BytesIO()
    Image.effect_noise((96, 64), 40).convert("P" if name == "gif" else "RGB").save(out, name.upper())
    data = out.getvalue()
    assert identify(data).format == name
    treatment = treat(data, Recipe(Level.EVERYDAY))
    assert treatment.main.format == name
    assert all(output.format in COPIES for output in treatment.of("copy"))
    for output in treatment.chosen:
        assert identify(output.data).format == output.format


@pytest.mark.parametrize("name", COPIES)
def test_a_copy_is_named_after_the_whole_name_and_a_conversion_takes_the_ending(name: str) -> None:
    assert (
        Beside(Purpose.COPY, name, FORMATS[name].ending).path("2025/a.photo.jpg")
        == f"2025/a.photo.jpg.{name}"
    )
    assert Beside(Purpose.CONVERSION, "jpeg", ".jpg").path("2025/a.photo.png") == "2025/a.photo.jpg"
