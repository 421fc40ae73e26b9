"""What a drawing looks like: drawn in memory, without fonts, files or network."""

from __future__ import annotations

import io
from codecs import BOM_UTF16_BE, BOM_UTF16_LE

import resvg_py
from PIL import Image

from ..identification import svg_size
from ..pixels import Pixels, to_pixels


class CannotDraw(ValueError):
    """A drawing of no size, or of what is not drawn here."""


def drawn(data: bytes, side: int) -> Pixels:
    """The drawing, its longer side of so many pixels. Raises CannotDraw."""
    return to_pixels(picture_of(data, side))


def picture_of(data: bytes, side: int) -> Image.Image:
    """The same as a Pillow picture, RGBA. Raises CannotDraw."""
    width, height = svg_size(data)
    across, down = (None, side) if height > width else (side, None)
    try:
        text = data.decode("utf-16" if data[:2] in (BOM_UTF16_LE, BOM_UTF16_BE) else "utf-8-sig")
        made = resvg_py.svg_to_bytes(
            svg_string=text, skip_system_fonts=True, dpi=96, width=across, height=down
        )
    except UnicodeDecodeError:
        raise CannotDraw("it is written in an encoding other than UTF-8 and UTF-16") from None
    except ValueError as error:
        raise CannotDraw(str(error) or "its renderer does not say why") from None
    except BaseException as error:
        # The renderer's own assertions come as an exception that is none of Python's.
        if type(error).__name__ != "PanicException":
            raise
        raise CannotDraw("its renderer gave up") from None
    return Image.open(io.BytesIO(made)).convert("RGBA")
