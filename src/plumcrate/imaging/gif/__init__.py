"""GIF: CompuServe, GIF89a specification, 1990. Own reader, writer and exact reductions."""

from .picture import GifError, GifFile, read_gif
from .recompress import recompress

__all__ = ["GifError", "GifFile", "read_gif", "recompress"]
