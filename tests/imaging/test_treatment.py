"""The promises of a treatment: smaller or untouched, at the promised score, turned and coloured as before."""

import io
import struct

import numpy as np
import pytest
from outputs import data_of
from PIL import Image, ImageCms

from plumcrate.contract.common import Level as WireLevel
from plumcrate.demo.painter.drawings import DRAWINGS, flashing_light
from plumcrate.demo.painter.noise import grain
from plumcrate.demo.painter.scenes import SCENES
from plumcrate.demo.world import camera_metadata, mess
from plumcrate.imaging import (
    Effort,
    FixedQuality,
    ImagingError,
    Kind,
    Level,
    Limits,
    Recipe,
    Refused,
    Sharpening,
    identify,
    score,
    treat,
)
from plumcrate.imaging.errors import Damaged, NotAPicture, TooLarge
from plumcrate.imaging.kinds import EVERYTHING
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
    outputs = [treatment.main, *treatment.of("copy")]
    assert {output.format for output in outputs} == {identify(source).format, "webp", "avif"}
    for output in outputs:
        assert (data_of(output) is None) == isinstance(output, Refused)
        if data_of(output) is None:
            continue
        facts = identify(data_of(output))
        assert facts.format == output.format
        assert len(data_of(output)) == output.size < len(source)
        if output is not treatment.main:
            assert output.size < treatment.size_after
        if level is Level.EXACT:
            assert decode(data_of(output)).same_as(decode(source))
        else:
            measured = score(source, data_of(output))
            assert measured >= TARGETS[level] - TOLERANCE
            assert measured == pytest.approx(output.score, abs=0.05)


def test_something_is_gained_on_each_lossy_level_and_more_on_stronger_ones() -> None:
    sizes = [
        treat(SOURCES["photo"], Recipe(level, copies=frozenset({"webp"}))).size_after
        for level in list(Level)[1:]
    ]
    assert sizes == sorted(sizes, reverse=True)
    assert sizes[-1] < len(SOURCES["photo"]) * 0.6


def test_treating_is_deterministic() -> None:
    first, second = (treat(SOURCES["photo"], Recipe(Level.LEAN)) for _ in range(2))
    assert first == second


def test_a_file_that_is_already_light_is_kept() -> None:
    light = data_of(treat(SOURCES["photo"], Recipe(Level.LEAN)).main)
    assert light is not None
    again = treat(light, Recipe(Level.GALLERY, copies=frozenset()))
    assert data_of(again.main) is None
    assert isinstance(again.main, Refused)
    assert again.main.verdict in ("not-smaller", "too-little-gain", "out-of-reach")
    assert again.of("copy") == ()


@pytest.mark.parametrize("orientation", [3, 6, 8])
def test_orientation_is_kept_in_the_file_and_applied_in_copies(orientation: int) -> None:
    source = photo(320, 200, exif=camera_metadata(3, orientation))
    treatment = treat(source, Recipe(Level.LEAN))
    assert data_of(treatment.main) is not None
    assert identify(data_of(treatment.main)).orientation == orientation
    shown = identify(source).shown_size
    for copy in treatment.of("copy"):
        if data_of(copy) is not None:
            facts = identify(data_of(copy))
            assert facts.orientation == 1
            assert (facts.width, facts.height) == shown


def test_metadata_and_profile_stay_in_the_file_and_copies_carry_the_rights() -> None:
    from PIL import ImageCms

    profile = ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes()
    treatment = treat(photo(icc_profile=profile, exif=camera_metadata(9, 1)), Recipe(Level.LEAN))
    assert data_of(treatment.main) is not None
    with Image.open(io.BytesIO(data_of(treatment.main))) as image:
        assert image.info["icc_profile"] == profile
        assert image.getexif()[0x8298] == "(c) Gannet Ledge Light Trust"
    written = [copy for copy in treatment.of("copy") if data_of(copy) is not None]
    assert written
    for copy in written:
        with Image.open(io.BytesIO(data_of(copy))) as image:
            assert "icc_profile" not in image.info, "sRGB is what browsers take it for anyway"
            assert set(image.getexif()) == {0x8298, 0x013B}


def test_the_mess_is_declined_with_plain_reasons() -> None:
    found = dict(mess(np.random.default_rng(2)))
    expected: dict[str, type[ImagingError]] = {
        "truncated-upload.jpg": Damaged,
        "error-page.jpg": NotAPicture,
        "empty.png": NotAPicture,
        "forty-thousand.png": TooLarge,
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
    written = [output for output in (treatment.main, *treatment.of("copy")) if data_of(output) is not None]
    assert treatment.of("copy")[0] in written, "an animated WebP is smaller"
    wanted = timing(source)
    assert wanted[2] is not None
    assert len(set(wanted[1])) > 1
    for output in written:
        frames, delays, loops = timing(data_of(output))
        assert (frames, delays) == wanted[:2]
        # A GIF counts repeats, WebP how often it plays; AVIF's count is looked at in Chromium, test_encoders.
        plays = wanted[2] + 1 if kind == "GIF" and output.format == "webp" else wanted[2]
        assert output.format == "avif" or loops == plays


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
    if data_of(treatment.main) is not None:
        first, second = (read_png(data, 10**7).picture for data in (source, data_of(treatment.main)))
        assert same_pixels(first, second)
    assert any(data_of(copy) for copy in treatment.of("copy"))


def test_what_was_tried_is_told() -> None:
    treatment = treat(SOURCES["photo"], Recipe(Level.LEAN))
    for output in (treatment.main, *treatment.of("copy")):
        assert output.tried
        if data_of(output) is not None:
            assert output.size in {tried.size for tried in output.tried}


@pytest.mark.slow
def test_effort_buys_bytes() -> None:
    sizes = [
        treat(SOURCES["chart"], Recipe(Level.EXACT, effort=effort, copies=frozenset())).size_after
        for effort in (Effort.QUICK, Effort.NORMAL, Effort.THOROUGH)
    ]
    assert sizes[0] >= sizes[1] > sizes[2]


def test_largest_size_is_kept_to_and_nothing_grows() -> None:
    treatment = treat(SOURCES["photo"], Recipe(Level.LEAN, largest=(300, 300), copies=frozenset({"webp"})))
    assert data_of(treatment.main) is not None
    facts = identify(data_of(treatment.main))
    assert (facts.width, facts.height) == (300, 200)
    recipe = Recipe(largest=(0, 160), copies=frozenset({"webp"}))
    turned = treat(photo(320, 200, exif=camera_metadata(3, 6)), recipe)
    assert data_of(turned.main) is not None
    assert identify(data_of(turned.main)).shown_size == (100, 160)
    large = treat(SOURCES["photo"], Recipe(Level.LEAN, largest=(9000, 9000), copies=frozenset({"webp"})))
    assert large == treat(SOURCES["photo"], Recipe(Level.LEAN, copies=frozenset({"webp"})))


def test_other_formats_are_offered_when_asked_and_smaller() -> None:
    with Image.open(io.BytesIO(SOURCES["photo"])) as image:
        out = io.BytesIO()
        image.save(out, "PNG")
    (jpeg,) = treat(out.getvalue(), Recipe(convert=EVERY_CONVERSION, copies=frozenset())).of("conversion")
    assert data_of(jpeg) is not None
    assert identify(data_of(jpeg)).format == "jpeg"
    assert score(out.getvalue(), data_of(jpeg)) >= TARGETS[Level.EVERYDAY] - TOLERANCE
    assert treat(out.getvalue(), Recipe(copies=frozenset())).of("conversion") == ()


def test_limits_are_limits() -> None:
    with pytest.raises(TooLarge, match="megapixel"):
        treat(SOURCES["photo"], Recipe(), Limits(pixels=1000))


def test_a_recipe_survives_the_records() -> None:
    recipe = Recipe(
        Level.GALLERY,
        copies=frozenset({"avif"}),
        effort=Effort.QUICK,
        metadata=frozenset({Kind.RIGHTS}),
        largest=(800, 0),
        sharpening=Sharpening(0.5),
    )
    assert Recipe.from_dict(recipe.as_dict()) == recipe
    with pytest.raises(ValueError, match="softest"):
        Recipe.from_dict({"level": "softest"})


def test_printing_colours_stay_in_the_file_and_copies_are_for_screens() -> None:
    source = dict(mess(np.random.default_rng(2)))["press-cmyk.jpg"]
    treatment = treat(source, Recipe(Level.LEAN))
    assert data_of(treatment.main) is not None
    with Image.open(io.BytesIO(source)) as before, Image.open(io.BytesIO(data_of(treatment.main))) as after:
        assert after.mode == "CMYK"
        assert np.array_equal(np.asarray(before), np.asarray(after))
    with Image.open(io.BytesIO(source)) as image:
        shown = Pixels(np.asarray(image.convert("RGB")))
    for copy in treatment.of("copy"):
        assert data_of(copy) is not None
        assert Judge(shown).score(decode(data_of(copy))) >= TARGETS[Level.LEAN] - TOLERANCE


def wide_profile() -> bytes:
    """A display profile with wider primaries than sRGB (ICC.1:2001-04, matrix and gamma 2.2)."""

    def fixed(*values: float) -> bytes:
        return b"".join(struct.pack(">i", round(value * 65536)) for value in values)

    tags = {
        b"desc": b"desc\0\0\0\0" + struct.pack(">I", 5) + b"wide\0" + b"\0" * 78,
        b"wtpt": b"XYZ \0\0\0\0" + fixed(0.9642, 1.0, 0.8249),
        b"rXYZ": b"XYZ \0\0\0\0" + fixed(0.5151, 0.2412, -0.0011),
        b"gXYZ": b"XYZ \0\0\0\0" + fixed(0.2919, 0.6922, 0.0419),
        b"bXYZ": b"XYZ \0\0\0\0" + fixed(0.1572, 0.0666, 0.7841),
    }
    for name in (b"rTRC", b"gTRC", b"bTRC"):
        tags[name] = b"curv\0\0\0\0" + struct.pack(">IH", 1, round(2.2 * 256)) + b"\0\0"
    place, table, body = 132 + 12 * len(tags), struct.pack(">I", len(tags)), b""
    for name, data in tags.items():
        data += b"\0" * (-len(data) % 4)
        table += name + struct.pack(">II", place + len(body), len(data))
        body += data
    head = struct.pack(">I4sI4s4s4s", place + len(body), b"none", 0x02400000, b"mntr", b"RGB ", b"XYZ ")
    head += b"\0" * 12 + b"acsp" + b"\0" * 28 + fixed(0.9642, 1.0, 0.8249)
    return head.ljust(128, b"\0") + table + body


@pytest.mark.parametrize("vivid", [False, True])
def test_a_wide_profile_is_left_out_of_copies_only_where_no_colour_is_lost(vivid: bool) -> None:
    scene = SCENES["headland"](np.random.default_rng(3), 320, 200, 3).clip(0, 1)
    scene = 0.25 + 0.5 * scene
    if vivid:
        scene[40:90, 40:90] = (1.0, 0.0, 0.0)
    out = io.BytesIO()
    image = Image.fromarray((scene * 255).astype("uint8"))
    image.save(out, "JPEG", quality=95, icc_profile=wide_profile())
    treatment = treat(out.getvalue(), Recipe(copies=frozenset({"webp"}), keep_larger_copies=True))
    assert data_of(treatment.main) is not None
    assert Image.open(io.BytesIO(data_of(treatment.main))).info["icc_profile"] == wide_profile()
    (webp,) = treatment.of("copy")
    assert data_of(webp) is not None
    shown = Image.open(io.BytesIO(data_of(webp)))
    assert ("icc_profile" in shown.info) is vivid
    if not vivid:
        theirs = ImageCms.ImageCmsProfile(io.BytesIO(wide_profile()))
        wanted = ImageCms.profileToProfile(Image.open(out), theirs, ImageCms.createProfile("sRGB"), 1, "RGB")
        assert wanted is not None
        apart = np.asarray(wanted).astype(int) - np.asarray(shown.convert("RGB"))
        assert np.abs(apart).mean() < 4
        assert np.abs(np.asarray(wanted).astype(int) - np.asarray(image)).mean() > 2, "it is another picture"


def test_a_webp_that_is_written_again_keeps_its_metadata_by_kind() -> None:
    scene = SCENES["headland"](np.random.default_rng(4), 640, 400, 4).clip(0, 1)
    out = io.BytesIO()
    Image.fromarray((scene * 255).astype("uint8")).save(
        out, "WEBP", lossless=True, exif=camera_metadata(1, 1), icc_profile=wide_profile()
    )
    for keep, kept in ((EVERYTHING, True), (frozenset({Kind.RIGHTS}), False)):
        main = treat(out.getvalue(), Recipe(copies=frozenset({"webp"}), metadata=keep)).main
        assert data_of(main) is not None
        shown = Image.open(io.BytesIO(data_of(main)))
        exif = shown.getexif()
        assert (0x0110 in exif) is kept, "the camera"
        assert 0x8298 in exif, "the rights"
        assert shown.info["icc_profile"] == wide_profile()


@pytest.mark.parametrize("quality", [60, 85])
def test_a_fixed_quality_takes_the_place_of_the_promise(quality: int) -> None:
    scene = SCENES["headland"](np.random.default_rng(5), 320, 240, 5).clip(0, 1)
    out = io.BytesIO()
    Image.fromarray((scene * 255).astype("uint8")).save(out, "JPEG", quality=97)
    fixed = FixedQuality(jpeg=quality, webp=quality, avif=quality)
    treatment = treat(out.getvalue(), Recipe(fixed=fixed, keep_larger_copies=True))
    sizes = [one.size for one in (treatment.main, *treatment.of("copy"))]
    assert all(data_of(one) for one in (treatment.main, *treatment.of("copy")))
    assert f"quality {quality}" in treatment.of("copy")[0].how
    plain = io.BytesIO()
    Image.open(out).save(plain, "JPEG", quality=quality)
    assert 0.45 < sizes[0] / len(plain.getvalue()) < 1.15, "about what the usual quality means"
