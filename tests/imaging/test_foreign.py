"""TIFF, HEIF and BMP: read for what takes their place on pages; the file itself stays."""

from __future__ import annotations

import base64
import io

import numpy as np
import pytest
from PIL import Image, ImageCms

from plumcrate.demo.painter.noise import grain
from plumcrate.demo.painter.scenes import SCENES
from plumcrate.imaging import treat
from plumcrate.imaging.errors import Damaged, ImagingError, LeftAlone, TooLarge
from plumcrate.imaging.identification import identify
from plumcrate.imaging.outcome import Chosen, Output, Refused
from plumcrate.imaging.preview import preview
from plumcrate.imaging.recipe import Conversion, Level, Limits, Recipe

WEB = frozenset((Conversion.FOR_THE_WEB,))
#: A tower with its light, 96 x 64 pixels, as a telephone stores pictures.
HEIF = base64.b64decode(
    "AAAAHGZ0eXBoZWljAAAAAG1pZjFoZWljbWlhZgAAAVZtZXRhAAAAAAAAACFoZGxyAAAAAAAAAABwaWN0AAAAAAAAAAAAAAAA"
    "AAAAACJpbG9jAAAAAERAAAEAAQAAAAABegABAAAAAAAAAMAAAAAjaWluZgAAAAAAAQAAABVpbmZlAgAAAAABAABodmMxAAAA"
    "AA5waXRtAAAAAAABAAAA1mlwcnAAAAC3aXBjbwAAAHhodmNDAQNwAAAAkAAAAAAAHvAA/P34+AAADwNgAAEAGEABDAH//wNw"
    "AAADAJAAAAMAAAMAHroCQGEAAQArQgEBA3AAAAMAkAAAAwAAAwAeoDCBBZbqSSmubgIaDAgAAAMAyAAAAwAIQGIAAQAHRAHB"
    "crAiQAAAABNjb2xybmNseAABAA0ABoAAAAAUaXNwZQAAAAAAAABgAAAAQAAAABBwaXhpAAAAAAMICAgAAAAXaXBtYQAAAAAA"
    "AAABAAEEgQIDBAAAAMhtZGF0AAAAvCgBrxmAYhEieTf//93T1PZfsZCm9p7dsiOtI39Fg94RA3Zyg44Oq1fjGihtoi1bmhLn"
    "bKPNDOWlbApc7F8/GLc/vqHEA1cpWMlYp/wjQLZvFFfqq5+THDbJrMAFI6FP92jaXk8VwfLlfNuwDvFbnzN9AkYpX2EqzyLA"
    "kSzWoB2hfj3lNcbYm0bPBWpTN22x+cQCs7po18+AIoI5LUF76/oxNgMLqUd8JyRrntH5wvr6KcoPkwezfxB6wACQ"
)


def scene(width: int = 240, height: int = 160) -> Image.Image:
    rng = np.random.default_rng(5)
    painted = grain(rng, SCENES["headland"](rng, width, height, 1), 0.02)
    return Image.fromarray((painted.clip(0, 1) * 255).astype(np.uint8))


def saved(image: Image.Image, kind: str, **options: object) -> bytes:
    out = io.BytesIO()
    image.save(out, kind, **options)
    return out.getvalue()


def file_of(outputs: tuple[Output, ...]) -> Chosen:
    (found,) = (output for output in outputs if output.role == "conversion")
    assert isinstance(found, Chosen)
    return found


@pytest.mark.parametrize("kind", ["TIFF", "BMP", "HEIF"])
def test_a_file_for_the_web_is_made_beside_with_its_copies(kind: str) -> None:
    data = HEIF if kind == "HEIF" else saved(scene(), kind)
    facts = identify(data)
    assert facts.format == kind.lower()
    treatment = treat(data, Recipe(convert=WEB))
    assert isinstance(treatment.main, Refused)
    assert treatment.main.verdict == "not-for-the-web"
    assert treatment.size_after == len(data), "the file itself stays as it is"
    made = file_of(treatment.outputs)
    with Image.open(io.BytesIO(made.data)) as shown:
        assert shown.format in ("JPEG", "PNG")
        assert shown.size == facts.shown_size
    copies = [copy for copy in treatment.of("copy") if isinstance(copy, Chosen)]
    assert copies or made.size < 1_000, "of the HEIF some 800 bytes are left, below which no copy comes"
    assert all(copy.size < made.size for copy in copies)
    assert identify(preview(data, 48, Limits())).format == "webp"


def test_without_the_wish_it_is_left_alone_and_said_how_to_have_it() -> None:
    with pytest.raises(LeftAlone, match="TIFF is no format for pages; the recipe can"):
        treat(saved(scene(), "TIFF"), Recipe())


def test_a_photograph_becomes_jpeg_a_drawing_png_and_exact_is_exact() -> None:
    photograph = scene(480, 320)
    data = saved(photograph, "TIFF")
    assert file_of(treat(data, Recipe(Level.EVERYDAY, convert=WEB)).outputs).format == "jpeg"
    exact = file_of(treat(data, Recipe(Level.EXACT, convert=WEB)).outputs)
    assert exact.format == "png"
    assert np.array_equal(
        np.asarray(Image.open(io.BytesIO(exact.data)).convert("RGB")), np.asarray(photograph)
    )
    flat = Image.new("RGB", (200, 120), "#22445c")
    flat.paste("#ffd23f", (20, 20, 90, 90))
    assert file_of(treat(saved(flat, "BMP"), Recipe(convert=WEB)).outputs).format == "png"


def test_orientation_profile_and_rights_go_along() -> None:
    profile = ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes()
    exif = Image.Exif()
    exif[0x0112], exif[0x8298], exif[0x0131] = 6, "Gannet Ledge Light Trust", "a scanner's program"
    image = scene(240, 160)
    data = saved(image, "TIFF", exif=exif, icc_profile=profile)
    assert identify(data).shown_size == (160, 240)
    made = file_of(treat(data, Recipe(Level.EXACT, convert=WEB)).outputs)
    with Image.open(io.BytesIO(made.data)) as shown:
        assert shown.size == (160, 240)
        turned = image.transpose(Image.Transpose.ROTATE_270)
        assert np.array_equal(np.asarray(shown.convert("RGB")), np.asarray(turned))
        assert shown.info["icc_profile"] == profile
        kept = shown.getexif()
        assert kept[0x8298] == "Gannet Ledge Light Trust"
        assert 0x0131 not in kept, "a recipe that keeps rights keeps nothing else"


def test_printing_colours_are_shown_as_screens_do() -> None:
    data = saved(scene().convert("CMYK"), "TIFF")
    made = file_of(treat(data, Recipe(convert=WEB)).outputs)
    with Image.open(io.BytesIO(made.data)) as shown:
        assert shown.mode == "RGB"


def test_what_cannot_be_read_is_said_in_words() -> None:
    pages = saved(scene(), "TIFF", save_all=True, append_images=[scene()])
    data = saved(scene(), "TIFF")
    cases: list[tuple[bytes, type[ImagingError]]] = [
        (pages, LeftAlone),
        (data[: len(data) // 2], Damaged),
        (HEIF[: len(HEIF) // 2], Damaged),
        (saved(Image.new("1", (30_000, 30_000)), "TIFF", compression="group4"), TooLarge),
    ]
    for number, (odd, kind) in enumerate(cases):
        with pytest.raises(kind) as caught:
            treat(odd, Recipe(convert=WEB))
        assert len(str(caught.value)) > 10, number


def test_a_further_picture_that_is_none_is_said_in_words() -> None:
    out = io.BytesIO()
    image = Image.new("RGB", (40, 30), (90, 120, 150))
    image.save(out, "TIFF", save_all=True, append_images=[image])
    data = bytearray(out.getvalue())
    first = int.from_bytes(data[4:8], "little")
    entries = int.from_bytes(data[first : first + 2], "little")
    following = first + 2 + 12 * entries
    second = int.from_bytes(data[following : following + 4], "little")
    assert data[second + 2 : second + 4] == b"\x00\x01", "the width comes first"
    data[second + 2 : second + 4] = b"\xf0\xf0"  # a tag that says nothing
    with pytest.raises(Damaged, match="further picture"):
        treat(bytes(data), Recipe(convert=frozenset({Conversion.FOR_THE_WEB})))
