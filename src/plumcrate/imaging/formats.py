"""Every format that is known here, in one table: names, endings, media types, and what is done with it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

FormatName = Literal["jpeg", "png", "gif", "webp", "avif", "heif", "tiff", "bmp", "svg", "pdf"]


@dataclass(frozen=True, slots=True)
class Format:
    """One picture format.

    ``endings`` of file names, the usual first. ``treated``: files of it are made lighter. ``pixels``: of
    pixels, so that copies in other formats may stand beside. ``shaped``: they can be cut, made smaller and
    touched up. ``copy``: it is one of those formats. ``knob``: its encoder has a quality that can be fixed.
    ``conversion``: a file of another format may be written anew in it. ``shown``: browsers show it wherever
    it stands, and run nothing that is in it.
    """

    name: FormatName
    label: str
    media_type: str
    endings: tuple[str, ...]
    treated: bool = False
    pixels: bool = True
    shaped: bool = False
    copy: bool = False
    knob: bool = False
    conversion: bool = False
    shown: bool = False

    @property
    def ending(self) -> str:
        return self.endings[0]


_ALL = (
    Format(
        "jpeg",
        "JPEG",
        "image/jpeg",
        (".jpg", ".jpeg", ".jpe", ".jfif"),
        treated=True,
        shaped=True,
        knob=True,
        conversion=True,
        shown=True,
    ),
    Format(
        "png", "PNG", "image/png", (".png", ".apng"), treated=True, shaped=True, conversion=True, shown=True
    ),
    Format("gif", "GIF", "image/gif", (".gif",), treated=True, shaped=True, shown=True),
    Format(
        "webp", "WebP", "image/webp", (".webp",), treated=True, shaped=True, copy=True, knob=True, shown=True
    ),
    Format(
        "avif", "AVIF", "image/avif", (".avif",), treated=True, shaped=True, copy=True, knob=True, shown=True
    ),
    Format("heif", "HEIF", "image/heif", (".heic", ".heif")),
    Format("tiff", "TIFF", "image/tiff", (".tif", ".tiff")),
    Format("bmp", "BMP", "image/bmp", (".bmp",), shown=True),
    Format("svg", "SVG", "image/svg+xml", (".svg",), treated=True, pixels=False),
    Format("pdf", "PDF", "application/pdf", (".pdf",), treated=True, pixels=False),
)
FORMATS: dict[str, Format] = {format.name: format for format in _ALL}
#: Formats of copies, the lightest last.
COPIES = tuple(format.name for format in _ALL if format.copy)
#: Formats with an encoder whose quality can be fixed.
KNOBS = tuple(format.name for format in _ALL if format.knob)
