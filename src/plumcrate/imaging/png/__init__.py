"""PNG: W3C Portable Network Graphics, third edition. Own reader, exact forms, filters and DEFLATE."""

from .chunks import PngError
from .picture import read_png
from .recompress import recompress

__all__ = ["PngError", "read_png", "recompress"]
