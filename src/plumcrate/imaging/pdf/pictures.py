"""The pictures within a document: JPEG again as JPEG, and photographs that were packed without loss as JPEG
too."""

from __future__ import annotations

import io
import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import pikepdf
from PIL import Image

from ..errors import ImagingError
from ..identification import identify
from ..outcome import Chosen, Treatment
from .places import shown_inches

#: Smaller ones are marks and buttons; larger ones are left as they are.
_LEAST_BYTES, _MOST_PIXELS = 2_000, 60_000_000
_NAMED = {"/DeviceRGB": 3, "/DeviceGray": 1}
#: A picture of more than so many times the wanted pixels is made smaller.
_WORTH = 1.25
#: Treats one picture's bytes, fitted into a width and height; 0 for no limit.
Treat = Callable[[bytes, tuple[int, int]], Treatment]


@dataclass
class PictureTally:
    """Pictures that were looked at, and those that are lighter now."""

    seen: int = 0
    lighter: int = 0


def lighten_pictures(pdf: pikepdf.Pdf, as_jpeg: Treat, as_png: Treat, ppi: int) -> PictureTally:
    """Puts lighter pictures in the place of a document's own. What cannot be treated stays as it is.

    ``as_jpeg`` treats JPEGs, ``as_png`` what is packed without loss and may become a JPEG. ``ppi``: pixels to
    the inch that a picture has at most where it is shown largest; 0 for any.
    """
    tally = PictureTally()
    inches = shown_inches(pdf) if ppi else {}
    for found in pdf.objects:
        if not isinstance(found, pikepdf.Stream) or not _is_picture(found):
            continue
        tally.seen += 1
        try:
            made = _made(found, as_jpeg, as_png, _largest(found, inches.get(found.objgen), ppi))
        except (ImagingError, pikepdf.PdfError, ValueError, TypeError, OSError, NotImplementedError):
            continue
        if made is not None and len(made) < len(found.read_raw_bytes()):
            facts = identify(made)
            found.write(made, filter=pikepdf.Name.DCTDecode)
            found.Width, found.Height = facts.width, facts.height
            tally.lighter += 1
    return tally


def _is_picture(found: pikepdf.Stream) -> bool:
    if found.get("/Subtype") != pikepdf.Name.Image:
        return False
    if "/ImageMask" in found or "/Decode" in found or "/Mask" in found or "/Matte" in found:
        return False
    if int(found.get("/Width", 0)) * int(found.get("/Height", 0)) > _MOST_PIXELS:
        return False
    return int(found.get("/BitsPerComponent", 8)) == 8 and _channels(found) is not None


def _channels(picture: pikepdf.Stream) -> int | None:
    """Of a picture in plain grey or three colours; None for any other."""
    space: Any = picture.get("/ColorSpace")
    if isinstance(space, pikepdf.Name):
        return _NAMED.get(str(space))
    if isinstance(space, pikepdf.Array) and len(space) == 2 and space[0] == pikepdf.Name.ICCBased:
        count = int(space[1].get("/N", 0))
        return count if count in (1, 3) else None
    return None


def _largest(picture: pikepdf.Stream, inches: tuple[float, float] | None, ppi: int) -> tuple[int, int]:
    """The width and height that a picture is fitted into; 0 where it has no more pixels than wanted, or it
    is not known how large it is shown."""
    if inches is None or min(inches) <= 0:
        return 0, 0
    width, height = int(picture.Width), int(picture.Height)
    scale = max(ppi * inches[0] / width, ppi * inches[1] / height)
    if scale * _WORTH >= 1:
        return 0, 0
    return max(1, math.ceil(width * scale)), max(1, math.ceil(height * scale))


def _made(picture: pikepdf.Stream, as_jpeg: Treat, as_png: Treat, largest: tuple[int, int]) -> bytes | None:
    raw = picture.read_raw_bytes()
    filters = _filters(picture)
    if len(raw) < _LEAST_BYTES or "/SMaskInData" in picture:
        return None
    if filters == ["/DCTDecode"] and not _coloured_otherwise(picture):
        main = as_jpeg(raw, largest).main
        return main.data if isinstance(main, Chosen) else None
    if filters == ["/FlateDecode"] or filters == ["/LZWDecode"]:
        return _photograph(picture, as_png, largest)
    return None


def _coloured_otherwise(picture: pikepdf.Stream) -> bool:
    """Whether the document says how a JPEG's colours are meant, beside the JPEG itself."""
    said: Any = picture.get("/DecodeParms", pikepdf.Dictionary())
    parts = list(said) if isinstance(said, pikepdf.Array) else [said]
    return any(isinstance(part, pikepdf.Dictionary) and "/ColorTransform" in part for part in parts)


def _filters(picture: pikepdf.Stream) -> list[str]:
    named: Any = picture.get("/Filter")
    return [str(name) for name in named] if isinstance(named, pikepdf.Array) else [str(named)]


def _photograph(picture: pikepdf.Stream, as_png: Treat, largest: tuple[int, int]) -> bytes | None:
    """A JPEG of what was packed without loss, where that is a photograph."""
    width, height = int(picture.Width), int(picture.Height)
    samples, channels = picture.read_bytes(), _channels(picture)
    if channels is None or len(samples) < width * height * channels:
        return None
    mode = "RGB" if channels == 3 else "L"
    image = Image.frombytes(mode, (width, height), samples[: width * height * channels])
    out = io.BytesIO()
    image.save(out, "PNG", compress_level=1)
    made = as_png(out.getvalue(), largest)
    chosen = [output for output in made.of("conversion") if isinstance(output, Chosen)]
    if not chosen:
        return None
    with Image.open(io.BytesIO(chosen[0].data)) as shown:
        return chosen[0].data if shown.mode == mode else None
