"""From coefficients to a JPEG file: the cheapest scan script, found by cost, with optimal tables.

A script splits the coefficients into scans by spectral selection and successive approximation
(T.81 G.1.1). AC scans hold one component each, so each component's best script is found by itself:
first how many low bits are held back, then where the spectrum is cut. The whole is weighed against
a sequential file, which wins for small pictures.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from . import tokens as tk
from .arrays import I16, I32, U8, U32
from .decode import block_order, blocks_of_mcu
from .huffman import codes, optimal_lengths, table_from_lengths
from .segments import Frame, HuffmanTable

_CUTS = (2, 5, 9, 14)
_HELD_BACK = (0, 1, 2)
_SCAN_HEADER = 10
#: A progressive file of more bytes is never beaten by a sequential one.
_SEQUENTIAL_BELOW = 150_000


@dataclass(frozen=True, slots=True)
class _Scan:
    """One scan of a script, by the components' places in the frame."""

    components: tuple[int, ...]
    start: int
    end: int
    high: int
    low: int


@dataclass(slots=True)
class _Table:
    """An optimal table and what its scan costs with it, in bits."""

    lengths: I32
    bits: int


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
        self._sparse: list[tuple[I32, U8, I16]] = []

    def encode(self) -> bytes:
        """The file, without its metadata segments' order changed."""
        self._sparse = [self._gathered(index) for index in self._every]
        progressive = self._file(self._best_script(), progressive=True)
        if len(progressive) > _SEQUENTIAL_BELOW:
            return progressive
        return min((self.sequential(), progressive), key=len)

    def _gathered(self, index: int) -> tuple[I32, U8, I16]:
        component = self.frame.components[index]
        most = int(np.count_nonzero(self.coefficients[component.blocks]))
        order = block_order(self.frame, [index])
        starts = np.empty(order.size + 1, np.int32)
        places, values = np.empty(most, np.uint8), np.empty(most, np.int16)
        count = tk.gather(self.coefficients, order, starts, places, values)
        return starts, places[:count], values[:count]

    def sequential(self) -> bytes:
        """The file as one sequential scan, without any search."""
        return self._file(None, progressive=False)

    # -- search ------------------------------------------------------------------------------

    def _best_script(self) -> list[_Scan]:
        every = self._every
        plans = [self._component_plan(index) for index in every]
        script = [_Scan(every, 0, 0, 0, low=self._best_dc_low(every))]
        depth = max((first[0].low for first, _ in plans), default=0)
        for first, _ in plans:
            script.extend(first)
        for low in range(depth - 1, -1, -1):
            for _, refinements in plans:
                script.extend(scan for scan in refinements if scan.low == low)
        if script[0].low:
            script.append(_Scan(every, 0, 0, 1, 0))
        return script

    def _best_dc_low(self, every: tuple[int, ...]) -> int:
        plain = self._scan_bits(_Scan(every, 0, 0, 0, 0))
        held = self._scan_bits(_Scan(every, 0, 0, 0, 1)) + self._scan_bits(_Scan(every, 0, 0, 1, 0))
        return int(held < plain)

    def _component_plan(self, index: int) -> tuple[list[_Scan], list[_Scan]]:
        """First scans and refinements of one component's AC coefficients."""
        alone = (index,)
        refinement = 0
        best: tuple[int, int, int] | None = None  # bits in all, bits of the first scan, low
        for low in _HELD_BACK:
            if low:
                refinement += self._scan_bits(_Scan(alone, 1, 63, low, low - 1))
            first = self._scan_bits(_Scan(alone, 1, 63, 0, low))
            if best is None or first + refinement < best[0]:
                best = (first + refinement, first, low)
        assert best is not None
        low = best[2]
        whole, parts = best[1], [_Scan(alone, 1, 63, 0, low)]
        for cut in _CUTS:
            pair = [_Scan(alone, 1, cut, 0, low), _Scan(alone, cut + 1, 63, 0, low)]
            bits = sum(self._scan_bits(scan) for scan in pair)
            if bits < whole:
                whole, parts = bits, pair
        return parts, [_Scan(alone, 1, 63, above, above - 1) for above in range(low, 0, -1)]

    def _scan_bits(self, scan: _Scan) -> int:
        return sum(table.bits for table in self._tables(scan, self._tokenize(scan))) + 8 * _SCAN_HEADER

    # -- one scan ----------------------------------------------------------------------------

    def _tokenize(self, scan: _Scan) -> int:
        """Fills the token buffers with a scan; returns how many."""
        if scan.start == 0:
            order, member = self._interleaved, self._member
            if scan.high:
                self._which[: order.size] = 0
                return int(tk.dc_refine(self.coefficients, order, scan.low, self._tokens))
            count = int(tk.dc_first(self.coefficients, order, member, scan.low, self._tokens, self._which))
            np.minimum(self._which[:count], 1, out=self._which[:count])  # luma has a table, chroma shares one
            return count
        kind = tk.ac_refine if scan.high else tk.ac_first
        sparse = self._sparse[scan.components[0]]
        count = int(kind(*sparse, scan.start, scan.end, scan.low, self._tokens))
        self._which[:count] = 0
        return count

    def _tables(self, scan: _Scan, count: int) -> list[_Table]:
        if scan.start == 0 and scan.high:
            return [_Table(np.zeros(256, np.int32), count)]
        wanted = range(min(len(scan.components), 2))
        return [self._optimal(count, which if len(scan.components) > 1 else -1) for which in wanted]

    def _optimal(self, count: int, which: int) -> _Table:
        histogram = np.zeros(256, np.int64)
        extra = tk.histogram(self._tokens, count, self._which, which, histogram)
        lengths = np.zeros(256, np.int32)
        optimal_lengths(histogram, lengths)
        used = int(np.count_nonzero(lengths))
        bits = int((histogram * lengths).sum()) + int(extra) + (8 * (21 + used) if used else 0)
        return _Table(lengths, bits)

    # -- the file ----------------------------------------------------------------------------

    def _file(self, script: list[_Scan] | None, *, progressive: bool) -> bytes:
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

    def _progressive_scan(self, scan: _Scan) -> bytes:
        count = self._tokenize(scan)
        tables = self._tables(scan, count)
        kind = 0 if scan.start == 0 else 1
        optimal = [table_from_lengths(table.lengths) for table in tables]
        has_tables = not (scan.start == 0 and scan.high)
        head = (
            _huffman_segment([(kind, number, table) for number, table in enumerate(optimal)])
            if has_tables
            else b""
        )
        selectors = [min(place, 1) if kind == 0 else 0 for place in range(len(scan.components))]
        return head + self._scan_header(scan, selectors, kind) + self._bits(count, optimal)

    def _sequential_scan(self) -> bytes:
        every = self._every
        count = int(
            tk.sequential(self.coefficients, self._interleaved, self._member, self._tokens, self._which)
        )
        np.minimum(self._which[:count], 2 + (self._which[:count] & 1), out=self._which[:count])
        kinds = range(4 if len(every) > 1 else 2)
        optimal = [table_from_lengths(self._optimal(count, which).lengths) for which in kinds]
        head = _huffman_segment(
            [(which & 1, which >> 1, table) for which, table in zip(kinds, optimal, strict=True)]
        )
        selectors = [min(place, 1) * 0x11 for place in range(len(every))]
        body = bytes([len(every)])
        for place, selector in zip(every, selectors, strict=True):
            body += bytes([self.frame.components[place].identifier, selector])
        return head + _segment(0xDA, body + bytes([0, 63, 0])) + self._bits(count, optimal)

    def _scan_header(self, scan: _Scan, selectors: list[int], kind: int) -> bytes:
        body = bytes([len(scan.components)])
        for place, selector in zip(scan.components, selectors, strict=True):
            body += bytes([self.frame.components[place].identifier, selector << 4 if kind == 0 else selector])
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
