"""Pictures in formats that are none for pages, read for what takes their place there: TIFF (Revision 6.0),
HEIF (ISO/IEC 23008-12) and BMP."""

from __future__ import annotations

import io

from PIL import Image, ImageOps, PngImagePlugin

from ..errors import Damaged, LeftAlone
from ..formats import FORMATS
from ..identification import Facts
from ..pixels import open_picture
from ..recipe import Conversion, Limits, Recipe
from .source import on_screen

#: Tags of a TIFF that say how its pixels lie, upright by now, and its profile, which goes by itself.
_STRUCTURE = frozenset(
    (*range(254, 267), 273, 274, *range(277, 285), *range(290, 298), 317, *range(320, 326))
)
_STRUCTURE |= frozenset((*range(330, 348), *range(512, 533), 700, 33723, 34377, 34675))
FOREIGN = ("tiff", "heif", "bmp")


def _holds_several(image: Image.Image) -> bool:
    """Raises Damaged where a further picture is named and is none."""
    try:
        return getattr(image, "n_frames", 1) > 1
    except Exception as error:  # whatever Pillow meets in a directory that a stranger wrote
        raise Damaged(f"a further picture in the TIFF cannot be read ({error})") from None


def as_png(data: bytes, facts: Facts, recipe: Recipe, limits: Limits) -> bytes:
    """The picture, upright, as a PNG with its profile and its Exif: printing colours as screens show them.

    Raises LeftAlone where the recipe asks for nothing of the kind, or the file holds several pictures;
    Damaged and TooLarge.
    """
    label = FORMATS[facts.format].label
    if Conversion.FOR_THE_WEB not in recipe.convert:
        raise LeftAlone(
            f"{label} is no format for pages; the recipe can have a file for the web made beside it"
        )
    if recipe.shapes:
        raise LeftAlone(f"{label} files are not cut, watermarked or touched up")
    image = open_picture(data, facts, limits)
    if facts.format == "tiff" and _holds_several(image):
        raise LeftAlone("it holds several pictures, and which of them pages should show is not known")
    kept = image.getexif()
    upright = ImageOps.exif_transpose(image)
    if upright.mode == "CMYK":
        upright = on_screen(upright)
        upright.info.pop("icc_profile", None)
    out, texts = io.BytesIO(), PngImagePlugin.PngInfo()
    for tag in _STRUCTURE & kept.keys():
        del kept[tag]
    if packet := image.info.get("xmp"):
        texts.add_itxt("XML:com.adobe.xmp", packet.decode("utf-8", "replace"))
    upright.convert("RGBA" if upright.has_transparency_data else "RGB").save(
        out,
        "PNG",
        compress_level=1,
        icc_profile=upright.info.get("icc_profile"),
        exif=kept.tobytes() if kept else b"",
        pnginfo=texts,
    )
    return out.getvalue()
