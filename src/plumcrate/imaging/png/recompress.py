"""Making a PNG smaller without changing a pixel, proven on the result."""

from __future__ import annotations

import numpy as np

from ..recipe import Effort
from .chunks import Chunk, PngError
from .encode import encode
from .picture import PngFile, read_png, same_pixels
from .reduce import Allowed

#: Chunks that say how the samples are to be shown; always kept.
LOOKS = {b"gAMA", b"cHRM", b"sRGB", b"iCCP", b"cICP", b"mDCV", b"cLLI"}
#: Hints that no viewer of a web page uses, or that are wrong once the samples change form.
_DROPPED = {b"bKGD", b"hIST", b"sPLT", b"sBIT"}


def kept_chunks(file: PngFile) -> list[Chunk]:
    """The ancillary chunks that go along when all metadata are kept."""
    return [
        chunk
        for chunk in file.ancillary
        if chunk.name not in _DROPPED
        and (chunk.name in LOOKS or chunk.safe_to_copy or chunk.name in (b"pHYs", b"tIME", b"eXIf"))
    ]


def recompress(
    data: bytes,
    effort: Effort,
    most_pixels: int,
    *,
    kept: list[Chunk] | None = None,
    clear_hidden: bool = True,
) -> bytes:
    """The same picture in fewer bytes, or ``data`` itself when there is no smaller way.

    ``kept``: the ancillary chunks to write, all sensible ones by default. ``clear_hidden``: colour
    under full transparency may be cleared. Raises :class:`PngError` for files that are not read here.
    """
    file = read_png(data, most_pixels)
    chunks = kept_chunks(file) if kept is None else kept
    allowed = Allowed(hidden=clear_hidden, family=not any(chunk.name == b"iCCP" for chunk in chunks))
    smaller = encode(file, chunks, effort, allowed)
    if len(smaller) >= len(data):
        return data
    again = read_png(smaller, most_pixels)
    same = same_pixels(file.picture, again.picture, hidden_matters=not clear_hidden)
    if not same or not _same_animation(file, again):
        raise PngError("the recompressed PNG was not identical, so it was thrown away")
    return smaller


def _same_animation(first: PngFile, second: PngFile) -> bool:
    return (first.plays, first.first_is_still, len(first.frames)) == (
        second.plays,
        second.first_is_still,
        len(second.frames),
    ) and all(
        ours.control == theirs.control and np.array_equal(ours.samples, theirs.samples)
        for ours, theirs in zip(first.frames, second.frames, strict=True)
    )
