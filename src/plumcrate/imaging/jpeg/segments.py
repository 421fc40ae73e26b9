"""The segments of a JPEG file: T.81 Annex B. Everything is validated here, before a kernel runs."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from ..errors import ImagingError

SOI, EOI, SOS, DQT, DHT, DRI, DNL = 0xD8, 0xD9, 0xDA, 0xDB, 0xC4, 0xDD, 0xDC
SOF0, SOF1, SOF2 = 0xC0, 0xC1, 0xC2
_OTHER_FRAMES = {0xC3, 0xC5, 0xC6, 0xC7, 0xC9, 0xCA, 0xCB, 0xCD, 0xCE, 0xCF}
_STANDALONE = {0x01, *range(0xD0, 0xD8)}
#: More scans than any encoder makes; a file may not cost more than this many passes.
MOST_SCANS = 200


def _ceil(value: int, by: int) -> int:
    return (value + by - 1) // by


class JpegError(ImagingError):
    """The file is not a JPEG that is read here; the message says why."""

    code = "jpeg"


@dataclass(slots=True)
class Component:
    """One colour component. Sizes in blocks of 8 x 8; ``first`` is its first row of coefficients.

    ``across`` and ``down`` count the blocks that hold picture; ``stride`` and ``rows`` also the
    padding up to whole MCUs.
    """

    identifier: int
    horizontal: int
    vertical: int
    table: int
    across: int = 0
    down: int = 0
    stride: int = 0
    rows: int = 0
    first: int = 0

    @property
    def blocks(self) -> slice:
        """Where its blocks are among the frame's."""
        return slice(self.first, self.first + self.rows * self.stride)


@dataclass(slots=True)
class HuffmanTable:
    """A table as DHT states it: ``counts[n]`` codes of length n + 1, then the symbols in order."""

    counts: NDArray[np.uint8]
    symbols: NDArray[np.uint8]


@dataclass(slots=True)
class Scan:
    """One SOS with the tables in force and where its entropy-coded data begins."""

    components: list[int]
    dc_tables: list[HuffmanTable | None]
    ac_tables: list[HuffmanTable | None]
    spectral_start: int
    spectral_end: int
    high: int
    low: int
    restart_interval: int
    data_at: int


@dataclass(slots=True)
class Frame:
    """A parsed file: its frame header, and its other segments as they stand."""

    width: int
    height: int
    progressive: bool
    components: list[Component]
    quantization: dict[int, NDArray[np.uint16]]
    #: APPn and COM segments, marker included, in their order.
    metadata: list[bytes] = field(default_factory=list)
    total_blocks: int = 0

    @property
    def mcu(self) -> tuple[int, int]:
        """MCUs across and down in an interleaved scan."""
        h = max(c.horizontal for c in self.components)
        v = max(c.vertical for c in self.components)
        return _ceil(self.width, 8 * h), _ceil(self.height, 8 * v)

    def lay_out(self) -> None:
        """Gives each component its blocks. T.81 A.1.1, A.2.4."""
        h = max(c.horizontal for c in self.components)
        v = max(c.vertical for c in self.components)
        across, down = self.mcu
        first = 0
        for c in self.components:
            c.across = _ceil(_ceil(self.width * c.horizontal, h), 8)
            c.down = _ceil(_ceil(self.height * c.vertical, v), 8)
            c.stride, c.rows = across * c.horizontal, down * c.vertical
            c.first = first
            first += c.stride * c.rows
        self.total_blocks = first


def read_word(data: bytes, at: int) -> int:
    if at + 2 > len(data):
        raise JpegError("the JPEG ends within a segment")
    return data[at] << 8 | data[at + 1]


def parse_quantization(body: bytes, tables: dict[int, NDArray[np.uint16]]) -> None:
    """DQT, B.2.4.1. Tables stay in zigzag order."""
    at = 0
    while at < len(body):
        precision, number = body[at] >> 4, body[at] & 15
        size = 64 * (precision + 1)
        if precision > 1 or number > 3 or at + 1 + size > len(body):
            raise JpegError("the JPEG has a quantization table that makes no sense")
        raw = np.frombuffer(body, ">u2" if precision else np.uint8, 64, at + 1)
        table = raw.astype(np.uint16)
        if not table.all():
            raise JpegError("the JPEG has a quantization table with a zero in it")
        tables[number] = table
        at += 1 + size


def parse_huffman(body: bytes, dc: dict[int, HuffmanTable], ac: dict[int, HuffmanTable]) -> None:
    """DHT, B.2.4.2. A table whose code lengths do not fit (Kraft) is refused."""
    at = 0
    while at < len(body):
        kind, number = body[at] >> 4, body[at] & 15
        counts = np.frombuffer(body[at + 1 : at + 17], np.uint8)
        total = int(counts.sum())
        if kind > 1 or number > 3 or counts.size < 16 or total > 256 or at + 17 + total > len(body):
            raise JpegError("the JPEG has a Huffman table that makes no sense")
        if sum(int(count) << (15 - length) for length, count in enumerate(counts)) > 1 << 16:
            raise JpegError("the JPEG has a Huffman table with too many codes")
        symbols = np.frombuffer(body[at + 17 : at + 17 + total], np.uint8)
        if kind == 0 and total and int(symbols.max()) > 11:
            raise JpegError("the JPEG has a DC table beyond 8-bit pictures")
        (ac if kind else dc)[number] = HuffmanTable(counts, symbols)
        at += 17 + total


def parse_frame(marker: int, body: bytes) -> Frame:
    """SOF0, SOF1 and SOF2, B.2.2."""
    if len(body) < 6:
        raise JpegError("the JPEG has a frame header that is too short")
    bits, height, width, count = body[0], body[1] << 8 | body[2], body[3] << 8 | body[4], body[5]
    if bits != 8:
        raise JpegError(f"JPEG pictures with {bits} bits are left alone")
    if not width or not height:
        raise JpegError("the JPEG does not state its size in its header")
    if count not in (1, 3, 4) or len(body) < 6 + 3 * count:
        raise JpegError(f"JPEG pictures with {count} components are left alone")
    components = []
    for index in range(count):
        identifier, sampling, table = body[6 + 3 * index : 9 + 3 * index]
        horizontal, vertical = sampling >> 4, sampling & 15
        if not (1 <= horizontal <= 4 and 1 <= vertical <= 4 and table <= 3):
            raise JpegError("the JPEG has a component that makes no sense")
        components.append(Component(identifier, horizontal, vertical, table))
    if len({c.identifier for c in components}) != count:
        raise JpegError("the JPEG has two components of one name")
    if count == 1:
        # A single component is never interleaved: its sampling factors say nothing (A.2.2).
        components[0].horizontal = components[0].vertical = 1
    frame = Frame(width, height, marker == SOF2, components, {})
    frame.lay_out()
    return frame


def parse_scan(
    body: bytes,
    frame: Frame,
    dc: dict[int, HuffmanTable],
    ac: dict[int, HuffmanTable],
    restart: int,
    data_at: int,
) -> Scan:
    """SOS, B.2.3, with the limits of B.2.3 and G.1.1.1.1."""
    count = body[0] if body else 0
    if not 1 <= count <= 4 or len(body) < 4 + 2 * count:
        raise JpegError("the JPEG has a scan header that makes no sense")
    names = {c.identifier: index for index, c in enumerate(frame.components)}
    components, dcs, acs = [], [], []
    for index in range(count):
        identifier, tables = body[1 + 2 * index], body[2 + 2 * index]
        if identifier not in names or names[identifier] in components:
            raise JpegError("the JPEG has a scan of a component that does not exist")
        components.append(names[identifier])
        dcs.append(dc.get(tables >> 4))
        acs.append(ac.get(tables & 15))
    start, end, approximation = body[1 + 2 * count : 4 + 2 * count]
    high, low = approximation >> 4, approximation & 15
    if frame.progressive:
        sound = start <= end <= 63 and low <= 13 and (high == 0 or high == low + 1)
        sound = sound and (start > 0 or end == 0) and (start == 0 or count == 1)
    else:
        start, end, high, low = 0, 63, 0, 0
        sound = True
    if not sound:
        raise JpegError("the JPEG has a scan that makes no sense")
    if (
        count > 1
        and sum(frame.components[i].horizontal * frame.components[i].vertical for i in components) > 10
    ):
        raise JpegError("the JPEG has an MCU that is too large")
    needs_dc = start == 0 and high == 0
    needs_ac = end > 0
    if (needs_dc and None in dcs) or (needs_ac and None in acs):
        raise JpegError("the JPEG has a scan whose Huffman table is missing")
    return Scan(components, dcs, acs, start, end, high, low, restart, data_at)


def other_frame(marker: int) -> bool:
    """Whether a marker begins a frame of a process that is not read here (lossless, arithmetic …)."""
    return marker in _OTHER_FRAMES


def stands_alone(marker: int) -> bool:
    """Whether a marker has no length and body."""
    return marker in _STANDALONE


JFIF = b"\xff\xe0\x00\x10JFIF\x00\x01\x01\x00\x00\x01\x00\x01\x00\x00"


def metadata_for_rewriting(data: bytes) -> list[bytes]:
    """The APPn and COM segments of a file that go into a file of new coefficients, in their order.

    Not the Adobe segment, since what is written is plain JFIF colour, nor the index of further pictures
    (MPF), which would point at nothing.
    """
    kept: list[bytes] = []
    at = 2
    while at + 4 <= len(data) and data[at] == 0xFF:
        marker = data[at + 1]
        if marker == 0xFF:
            at += 1
            continue
        if marker == SOS:
            break
        end = at + 2 + read_word(data, at + 2)
        body = data[at + 4 : end]
        wanted = 0xE0 <= marker <= 0xEF or marker == 0xFE
        if wanted and not (marker == 0xEE and body[:5] == b"Adobe") and not body.startswith(b"MPF\0"):
            kept.append(data[at:end])
        at = end
    if not any(segment[4:8] in (b"JFIF", b"Exif") for segment in kept):
        kept.insert(0, JFIF)
    return kept


def is_ycc(frame: Frame) -> bool:
    """Whether the components are luma and chroma (or luma alone), and not RGB or printing colours."""
    if len(frame.components) == 1:
        return True
    adobe = [segment for segment in frame.metadata if segment[1] == 0xEE and segment[4:9] == b"Adobe"]
    if adobe and len(adobe[0]) > 15 and adobe[0][15] == 0:
        return False
    return len(frame.components) == 3 and bytes(c.identifier for c in frame.components) != b"RGB"
