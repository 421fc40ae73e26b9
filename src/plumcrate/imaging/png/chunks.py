"""PNG as a list of chunks: W3C Portable Network Graphics, third edition, section 5."""

from __future__ import annotations

import struct
import zlib
from dataclasses import dataclass

SIGNATURE = b"\x89PNG\r\n\x1a\n"
#: Colour types of Table 8 and their channels.
GREY, RGB, PALETTE, GREY_ALPHA, RGBA = 0, 2, 3, 4, 6
CHANNELS = {GREY: 1, RGB: 3, PALETTE: 1, GREY_ALPHA: 2, RGBA: 4}
_DEPTHS = {
    GREY: (1, 2, 4, 8, 16),
    RGB: (8, 16),
    PALETTE: (1, 2, 4, 8),
    GREY_ALPHA: (8, 16),
    RGBA: (8, 16),
}
_MOST_CHUNKS = 100_000


class PngError(Exception):
    """A file that is not read here; the text says why."""


@dataclass(frozen=True, slots=True)
class Chunk:
    """One chunk: its four-letter type and its data."""

    name: bytes
    body: bytes

    @property
    def critical(self) -> bool:
        return not self.name[0] & 0x20

    @property
    def safe_to_copy(self) -> bool:
        """Whether it stays true when the picture's data change. Section 5.4."""
        return bool(self.name[3] & 0x20)

    def encoded(self) -> bytes:
        checked = self.name + self.body
        return struct.pack(">I", len(self.body)) + checked + struct.pack(">I", zlib.crc32(checked))


@dataclass(frozen=True, slots=True)
class Header:
    """IHDR. ``depth`` is bits per sample, or per palette index."""

    width: int
    height: int
    depth: int
    colour: int
    interlaced: bool = False

    @property
    def channels(self) -> int:
        return CHANNELS[self.colour]

    @property
    def pixels(self) -> int:
        return self.width * self.height

    @property
    def bits_per_pixel(self) -> int:
        return self.channels * self.depth

    @property
    def step(self) -> int:
        """Bytes from a sample to the same one of the pixel to its left, for filters. Section 9.2."""
        return max(1, self.bits_per_pixel // 8)

    def row_bytes(self, width: int | None = None) -> int:
        """Bytes of a row of so many pixels, without its filter byte."""
        return ((self.width if width is None else width) * self.bits_per_pixel + 7) // 8

    def chunk(self) -> Chunk:
        fields = (self.width, self.height, self.depth, self.colour, 0, 0, int(self.interlaced))
        return Chunk(b"IHDR", struct.pack(">IIBBBBB", *fields))


def read_chunks(data: bytes) -> tuple[list[Chunk], bytes]:
    """The chunks from IHDR to IEND, and what follows them. Raises :class:`PngError`."""
    if not data.startswith(SIGNATURE):
        raise PngError("this is not a PNG")
    chunks: list[Chunk] = []
    at = len(SIGNATURE)
    while True:
        if at + 12 > len(data):
            raise PngError("the PNG ends before its end chunk")
        (length,) = struct.unpack_from(">I", data, at)
        if at + 12 + length > len(data):
            raise PngError("the PNG ends within a chunk")
        chunk = Chunk(data[at + 4 : at + 8], data[at + 8 : at + 8 + length])
        (crc,) = struct.unpack_from(">I", data, at + 8 + length)
        if zlib.crc32(data[at + 4 : at + 8 + length]) != crc:
            raise PngError("the PNG has a chunk whose checksum is wrong")
        if not chunk.name.isalpha():
            raise PngError("the PNG has a chunk without a proper name")
        chunks.append(chunk)
        at += 12 + length
        if chunk.name == b"IEND":
            return chunks, data[at:]
        if len(chunks) > _MOST_CHUNKS:
            raise PngError("the PNG has too many chunks")


def parse_header(chunks: list[Chunk]) -> Header:
    """IHDR, which must come first. Raises :class:`PngError`."""
    if chunks[0].name != b"IHDR" or len(chunks[0].body) != 13:
        raise PngError("the PNG does not begin with its header")
    width, height, depth, colour, compression, filters, interlace = struct.unpack(">IIBBBBB", chunks[0].body)
    if not 0 < width < 1 << 31 or not 0 < height < 1 << 31:
        raise PngError("the PNG has no pixels")
    if depth not in _DEPTHS.get(colour, ()) or compression or filters or interlace > 1:
        raise PngError("the PNG's header makes no sense")
    return Header(width, height, depth, colour, bool(interlace))
