"""The promises of a treatment: smaller or untouched, at the promised score, turned and coloured as before."""

import io

import numpy as np
import pytest
from PIL import Image

from plumcrate.contract import Level as WireLevel
from plumcrate.demo.painter.drawings import DRAWINGS, flashing_light
from plumcrate.demo.painter.noise import grain
from plumcrate.demo.painter.scenes import SCENES
from plumcrate.demo.world import camera_metadata, mess
from plumcrate.imaging import (
    Effort,
    ImagingError,
    Kind,
    Level,
    Limits,
    Recipe,
    Sharpening,
    identify,
    score,
    treat,
)
from plumcrate.imaging.errors import Damaged, LeftAlone, NotAPicture, TooLarge
from plumcrate.imaging.pixels import Pixels, decode
from plumcrate.imaging.png import read_png
from plumcrate.imaging.png.picture import same_pixels
from plumcrate.imaging.recipe import EVERY_CONVERSION, TARGETS, TOLERANCE
from plumcrate.imaging.scoring import Judge


def photo(width: int = 480, height: int = 320, **options: object) -> bytes:
    rng = np.random.default_rng(5)
    painted = grain(rng, SCENES["headland"](rng, width, height, 1), 0.02)
    out = io.BytesIO()
    Image.fromarray((painted.clip(0, 1) * 255).astype(np.uint8)).save(
        out, "JPEG", **({"quality": 95} | options)
    )
    return out.getvalue()


def png(kind: str) -> bytes:
    out = io.BytesIO()
    DRAWINGS[kind](np.random.default_rng(5), 600, 300).save(out, "PNG")
    return out.getvalue()


SOURCES = {"photo": photo(), "chart": png("tide-chart"), "logo": png("logo"), "plate": png("lens-drawing")}


def test_levels_are_the_same_words_in_core_and_contract() -> None:
    assert [str(level) for level in Level] == [str(level) for level in WireLevel]


@pytest.mark.parametrize("level", list(Level))
@pytest.mark.parametrize("name", SOURCES)
def test_every_output_keeps_its_promise(name: str, level: Level) -> None:
    source = SOURCES[name]
    treatment = treat(source, Recipe(level))
    outputs = [treatment.main, *treatment.copies]
    assert {output.format for output in outputs} == {identify(source).format, "webp", "avif"}
    for output in outputs:
        assert (output.data is not None) == (output.verdict == "chosen")
        if output.data is None:
            continue
        facts = identify(output.data)
        assert facts.format == output.format
        assert len(output.data) == output.size < len(source)
        if output is not treatment.main:
            assert output.size < treatment.size_after
        if level is Level.EXACT:
            assert decode(output.data).same_as(decode(source))
        else:
            measured = score(source, output.data)
            assert measured >= TARGETS[level] - TOLERANCE
            assert measured == pytest.approx(output.score, abs=0.05)


def test_something_is_gained_on_each_lossy_level_and_more_on_stronger_ones() -> None:
    sizes = [treat(SOURCES["photo"], Recipe(level, avif=False)).size_after for level in list(Level)[1:]]
    assert sizes == sorted(sizes, reverse=True)
    assert sizes[-1] < len(SOURCES["photo"]) * 0.6


def test_treating_is_deterministic() -> None:
    first, second = (treat(SOURCES["photo"], Recipe(Level.LEAN)) for _ in range(2))
    assert first == second


def test_a_file_that_is_already_light_is_kept() -> None:
    light = treat(SOURCES["photo"], Recipe(Level.LEAN)).main.data
    assert light is not None
    again = treat(light, Recipe(Level.GALLERY, webp=False, avif=False))
    assert again.main.data is None
    assert again.main.verdict in ("not-smaller", "too-little-gain", "out-of-reach")
    assert again.copies == ()


@pytest.mark.parametrize("orientation", [3, 6, 8])
def test_orientation_is_kept_in_the_file_and_applied_in_copies(orientation: int) -> None:
    source = photo(320, 200, exif=camera_metadata(3, orientation))
    treatment = treat(source, Recipe(Level.LEAN))
    assert treatment.main.data is not None
    assert identify(treatment.main.data).orientation == orientation
    shown = identify(source).shown_size
    for copy in treatment.copies:
        if copy.data is not None:
            facts = identify(copy.data)
            assert facts.orientation == 1
            assert (facts.width, facts.height) == shown


def test_metadata_and_profile_stay_in_the_file_and_copies_carry_the_rights() -> None:
    from PIL import ImageCms

    profile = ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes()
    treatment = treat(photo(icc_profile=profile, exif=camera_metadata(9, 1)), Recipe(Level.LEAN))
    assert treatment.main.data is not None
    with Image.open(io.BytesIO(treatment.main.data)) as image:
        assert image.info["icc_profile"] == profile
        assert image.getexif()[0x8298] == "(c) Gannet Ledge Light Trust"
    written = [copy for copy in treatment.copies if copy.data is not None]
    assert written
    for copy in written:
        with Image.open(io.BytesIO(copy.data)) as image:
            assert "icc_profile" not in image.info, "sRGB is what browsers take it for anyway"
            assert set(image.getexif()) == {0x8298, 0x013B}


def test_the_mess_is_declined_with_plain_reasons() -> None:
    found = dict(mess(np.random.default_rng(2)))
    expected: dict[str, type[ImagingError]] = {
        "truncated-upload.jpg": Damaged,
        "error-page.jpg": NotAPicture,
        "empty.png": NotAPicture,
        "forty-thousand.png": TooLarge,
        "brand-mark.svg": LeftAlone,
    }
    for name, kind in expected.items():
        with pytest.raises(kind) as caught:
            treat(found[name], Recipe())
        assert len(str(caught.value)) > 10
    assert treat(found["one-pixel.png"], Recipe()).facts.pixels == 1
    assert treat(found["actually-a-png.jpg"], Recipe()).main.format == "png"


def animation(kind: str) -> bytes:
    frames = flashing_light(120, 80)
    out = io.BytesIO()
    frames[0].save(
        out,
        kind,
        save_all=True,
        append_images=frames[1:],
        duration=[120 + 40 * n for n in range(len(frames))],
        loop=2,
    )
    return out.getvalue()


@pytest.mark.parametrize("kind", ["GIF", "PNG"])
def test_animations_keep_frames_and_timing_in_the_file_and_its_copies(kind: str) -> None:
    source = animation(kind)
    treatment = treat(source, Recipe(Level.LEAN))
    written = [output for output in (treatment.main, *treatment.copies) if output.data is not None]
    assert treatment.copies[0] in written, "an animated WebP is smaller"
    wanted = timing(source)
    assert len(set(wanted[1])) > 1
    for output in written:
        frames, delays, loops = timing(output.data)
        assert (frames, delays) == wanted[:2]
        assert output.format == "avif" or loops == wanted[2]


def timing(data: bytes) -> tuple[int, list[int], int | None]:
    """Frames, milliseconds of each, loops."""
    delays = []
    with Image.open(io.BytesIO(data)) as image:
        for number in range(image.n_frames):
            image.seek(number)
            image.load()
            delays.append(round(image.info["duration"]))
        return image.n_frames, delays, image.info.get("loop")


def test_sixteen_bits_stay_and_copies_show_eight_of_them() -> None:
    source = dict(mess(np.random.default_rng(2)))["sixteen-bit.png"]
    treatment = treat(source, Recipe(Level.LEAN))
    if treatment.main.data is not None:
        first, second = (read_png(data, 10**7).picture for data in (source, treatment.main.data))
        assert same_pixels(first, second)
    assert any(copy.data for copy in treatment.copies)


def test_what_was_tried_is_told() -> None:
    treatment = treat(SOURCES["photo"], Recipe(Level.LEAN))
    for output in (treatment.main, *treatment.copies):
        assert output.tried
        if output.data is not None:
            assert output.size in {tried.size for tried in output.tried}


def test_effort_buys_bytes() -> None:
    sizes = [
        treat(SOURCES["chart"], Recipe(Level.EXACT, effort=effort, webp=False, avif=False)).size_after
        for effort in (Effort.QUICK, Effort.NORMAL, Effort.THOROUGH)
    ]
    assert sizes[0] >= sizes[1] > sizes[2]


def test_largest_size_is_kept_to_and_nothing_grows() -> None:
    treatment = treat(SOURCES["photo"], Recipe(Level.LEAN, largest=(300, 300), avif=False))
    assert treatment.main.data is not None
    facts = identify(treatment.main.data)
    assert (facts.width, facts.height) == (300, 200)
    turned = treat(photo(320, 200, exif=camera_metadata(3, 6)), Recipe(largest=(0, 160), avif=False))
    assert turned.main.data is not None
    assert identify(turned.main.data).shown_size == (100, 160)
    large = treat(SOURCES["photo"], Recipe(Level.LEAN, largest=(9000, 9000), avif=False))
    assert large == treat(SOURCES["photo"], Recipe(Level.LEAN, avif=False))


def test_other_formats_are_offered_when_asked_and_smaller() -> None:
    with Image.open(io.BytesIO(SOURCES["photo"])) as image:
        out = io.BytesIO()
        image.save(out, "PNG")
    (jpeg,) = treat(out.getvalue(), Recipe(convert=EVERY_CONVERSION, webp=False, avif=False)).conversions
    assert jpeg.data is not None
    assert identify(jpeg.data).format == "jpeg"
    assert score(out.getvalue(), jpeg.data) >= TARGETS[Level.EVERYDAY] - TOLERANCE
    assert treat(out.getvalue(), Recipe(webp=False, avif=False)).conversions == ()


def test_limits_are_limits() -> None:
    with pytest.raises(TooLarge, match="megapixel"):
        treat(SOURCES["photo"], Recipe(limits=Limits(pixels=1000)))


def test_a_recipe_survives_the_records() -> None:
    recipe = Recipe(
        Level.GALLERY, webp=False, limits=Limits(7), effort=Effort.QUICK, metadata=frozenset({Kind.RIGHTS}),
        largest=(800, 0), sharpening=Sharpening(0.5),
    )  # fmt: skip
    assert Recipe.from_dict(recipe.as_dict()) == recipe
    with pytest.raises(ValueError, match="softest"):
        Recipe.from_dict({"level": "softest"})


def test_printing_colours_stay_in_the_file_and_copies_are_for_screens() -> None:
    source = dict(mess(np.random.default_rng(2)))["press-cmyk.jpg"]
    treatment = treat(source, Recipe(Level.LEAN))
    assert treatment.main.data is not None
    with Image.open(io.BytesIO(source)) as before, Image.open(io.BytesIO(treatment.main.data)) as after:
        assert after.mode == "CMYK"
        assert np.array_equal(np.asarray(before), np.asarray(after))
    with Image.open(io.BytesIO(source)) as image:
        shown = Pixels(np.asarray(image.convert("RGB")))
    for copy in treatment.copies:
        assert copy.data is not None
        assert Judge(shown).score(decode(copy.data)) >= TARGETS[Level.LEAN] - TOLERANCE
