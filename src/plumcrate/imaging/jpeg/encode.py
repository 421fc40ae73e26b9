"""From coefficients to a JPEG file: the cheapest scan script (:mod:`.script`), with optimal tables.

It is weighed against a sequential file, which wins for small pictures.
"""

from __future__ import annotations

import numpy as np

from . import tokens as tk
from .arrays import I16, I32, U8, U32
from .decode import block_order, blocks_of_mcu
from .huffman import codes, optimal_lengths, table_from_lengths
from .script import Scan, Sparse, best_bands, sampled
from .segments import Frame, HuffmanTable

#: A progressive file of more bytes is never beaten by a sequential one.
_SEQUENTIAL_BELOW = 150_000


class Encoder:
    """Writes one picture's coefficients, as progressive or sequential as is cheapest."""

    def __init__(self, frame: Frame, coefficients: I16) -> None:
        self.frame = frame
        self.coefficients = coefficients
        self._tokens: U32 = np.empty(coefficients.shape[0] * tk.PER_BLOCK + 1024, np.uint32)
        self._which: U8 = np.zeros(self._tokens.size, np.uint8)
        self._every = tuple(range(len(frame.components)))
        self._interleaved = block_order(frame, list(self._every))
        self._member = blocks_of_mcu(frame, list(self._every))
        self._sparse: list[Sparse] = []

    def encode(self) -> bytes:
        """The file, without its metadata segments' order changed."""
        self._sparse = [self._gathered(block_order(self.frame, [index]), index) for index in self._every]
        progressive = self._file(self._best_script(), progressive=True)
        if len(progressive) > _SEQUENTIAL_BELOW:
            return progressive
        return min((self.sequential(), progressive), key=len)

    def _gathered(self, order: I32, index: int) -> Sparse:
        most = int(np.count_nonzero(self.coefficients[self.frame.components[index].blocks]))
        starts = np.empty(order.size + 1, np.int32)
        places, values = np.empty(most, np.uint8), np.empty(most, np.int16)
        count = tk.gather(self.coefficients, order, starts, places, values)
        return Sparse(starts, places[:count], values[:count])

    def sequential(self) -> bytes:
        """The file as one sequential scan, without any search."""
        return self._file(None, progressive=False)

    # -- search ------------------------------------------------------------------------------

    def _best_script(self) -> list[Scan]:
        """DC of luma in a scan of its own, in raster order, and of both chromas in another; then each band's
        first scan; then refinements, those of the higher bits first."""
        luma, *chroma = self._every
        script = [Scan(components, 0, 0, 0, 0) for components in ((luma,), tuple(chroma)) if components]
        for index in self._every:
            order, scale = sampled(block_order(self.frame, [index]))
            sparse = self._sparse[index] if scale == 1.0 else self._gathered(order, index)
            script.extend(best_bands(index, sparse, scale))
        return sorted(script, key=lambda scan: -scan.high if scan.high else -99)

    # -- one scan ----------------------------------------------------------------------------

    def _tokenize(self, scan: Scan) -> int:
        """Fills the token buffers with a scan; returns how many."""
        if scan.start == 0:
            order = block_order(self.frame, list(scan.components))
            member = blocks_of_mcu(self.frame, list(scan.components))
            return int(tk.dc_first(self.coefficients, order, member, scan.low, self._tokens, self._which))
        kind = tk.ac_refine if scan.high else tk.ac_first
        sparse = self._sparse[scan.components[0]]
        count = int(
            kind(sparse.starts, sparse.places, sparse.values, scan.start, scan.end, scan.low, self._tokens)
        )
        self._which[:count] = 0
        return count

    def _optimal(self, count: int, which: int) -> HuffmanTable:
        histogram, lengths = np.zeros(256, np.int64), np.zeros(256, np.int32)
        tk.histogram(self._tokens, count, self._which, which, histogram)
        optimal_lengths(histogram, lengths)
        return table_from_lengths(lengths)

    # -- the file ----------------------------------------------------------------------------

    def _file(self, script: list[Scan] | None, *, progressive: bool) -> bytes:
        out = [b"\xff\xd8", *self.frame.metadata, self._quantization(), self._frame_header(progressive)]
        if script is None:
            out.append(self._sequential_scan())
        else:
            out.extend(self._progressive_scan(scan) for scan in script)
        out.append(b"\xff\xd9")
        return b"".join(out)

    def _quantization(self) -> bytes:
        body = b""
        for number in sorted({component.table for component in self.frame.components}):
            table = self.frame.quantization[number]
            wide = bool((table > 255).any())
            body += bytes([wide << 4 | number]) + table.astype(">u2" if wide else np.uint8).tobytes()
        return _segment(0xDB, body)

    def _frame_header(self, progressive: bool) -> bytes:
        frame = self.frame
        wide = any((frame.quantization[c.table] > 255).any() for c in frame.components)
        body = bytes([8]) + frame.height.to_bytes(2, "big") + frame.width.to_bytes(2, "big")
        body += bytes([len(frame.components)])
        for c in frame.components:
            body += bytes([c.identifier, c.horizontal << 4 | c.vertical, c.table])
        return _segment(0xC2 if progressive else 0xC1 if wide else 0xC0, body)

    def _progressive_scan(self, scan: Scan) -> bytes:
        count = self._tokenize(scan)
        kind = 0 if scan.start == 0 else 1
        optimal = [self._optimal(count, number) for number in range(len(scan.components))]
        head = _huffman_segment([(kind, number, table) for number, table in enumerate(optimal)])
        return head + self._scan_header(scan, kind) + self._bits(count, optimal)

    def _sequential_scan(self) -> bytes:
        every = self._every
        count = int(
            tk.sequential(self.coefficients, self._interleaved, self._member, self._tokens, self._which)
        )
        np.minimum(self._which[:count], 2 + (self._which[:count] & 1), out=self._which[:count])
        kinds = range(4 if len(every) > 1 else 2)
        optimal = [self._optimal(count, which) for which in kinds]
        head = _huffman_segment(
            [(which & 1, which >> 1, table) for which, table in zip(kinds, optimal, strict=True)]
        )
        selectors = [min(place, 1) * 0x11 for place in range(len(every))]
        body = bytes([len(every)])
        for place, selector in zip(every, selectors, strict=True):
            body += bytes([self.frame.components[place].identifier, selector])
        return head + _segment(0xDA, body + bytes([0, 63, 0])) + self._bits(count, optimal)

    def _scan_header(self, scan: Scan, kind: int) -> bytes:
        body = bytes([len(scan.components)])
        for number, place in enumerate(scan.components):
            body += bytes([self.frame.components[place].identifier, number << 4 if kind == 0 else number])
        return _segment(0xDA, body + bytes([scan.start, scan.end, scan.high << 4 | scan.low]))

    def _bits(self, count: int, tables: list[HuffmanTable]) -> bytes:
        out = np.empty(count * 5 + 64, np.uint8)
        length = int(
            tk.emit(self._tokens, count, self._which, np.stack([codes(table) for table in tables]), out)
        )
        while length < 0:
            out = np.empty(out.size * 2, np.uint8)
            length = int(
                tk.emit(self._tokens, count, self._which, np.stack([codes(table) for table in tables]), out)
            )
        return out[:length].tobytes()


def _segment(marker: int, body: bytes) -> bytes:
    return bytes([0xFF, marker]) + (len(body) + 2).to_bytes(2, "big") + body


def _huffman_segment(tables: list[tuple[int, int, HuffmanTable]]) -> bytes:
    body = b""
    for kind, number, table in tables:
        body += bytes([kind << 4 | number]) + table.counts.tobytes() + table.symbols.tobytes()
    return _segment(0xC4, body)
