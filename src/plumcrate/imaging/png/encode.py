"""The smallest PNG of a picture: its forms, filters and compression tried out, by effort."""

from __future__ import annotations

import struct
from dataclasses import dataclass

import deflate as library
import numpy as np

from ..recipe import Effort
from . import deflate, rows
from .chunks import SIGNATURE, Chunk
from .picture import Picture, PngFile
from .reduce import Allowed, forms
from .rows import U8


@dataclass(frozen=True, slots=True)
class _EffortSteps:
    """What an effort does: forms and filter ways kept, levels of the library for ranking and at last."""

    forms: int
    ways: tuple[int, ...]
    rank: int
    finals: int
    last: int
    passes: int = 0  # of our own DEFLATE


_PLANS = {
    Effort.QUICK: _EffortSteps(1, (rows.NONE, rows.PAETH, rows.LEAST_SUM), 1, 1, 10),
    Effort.NORMAL: _EffortSteps(
        2, (rows.NONE, rows.SUB, rows.LEAST_SUM, rows.ENTROPY, rows.BIGRAMS), 5, 1, 12
    ),
    Effort.THOROUGH: _EffortSteps(
        3, (rows.NONE, rows.SUB, rows.UP, rows.PAETH, rows.LEAST_SUM, rows.ENTROPY, rows.BIGRAMS), 8, 3, 12, 8
    ),
}
#: Pictures of more pixels are compressed at a level that takes two thirds of the time and .3 % more bytes.
_LARGE, _LARGE_LAST = 1_000_000, 11
#: Ranking looks at this much of a picture, in bands spread over it.
_SAMPLE = 600_000
_BANDS = 8


def encode(file: PngFile, kept: list[Chunk], effort: Effort, allowed: Allowed) -> bytes:
    """The smallest PNG that shows the same; ``kept`` are the ancillary chunks to write."""
    if file.frames:
        return _encode_animated(file, kept, effort)
    plan = _PLANS[effort]
    candidates = [replace_interlacing(file.picture), *forms(file.picture, allowed)]
    picture, stream = _smallest(candidates, plan)
    return _file(picture, stream, kept)


def encode_picture(pictures: list[Picture], kept: list[Chunk], effort: Effort) -> bytes:
    """The smallest PNG of several pictures of equal worth."""
    picture, stream = _smallest(pictures, _PLANS[effort])
    return _file(picture, stream, kept)


def replace_interlacing(picture: Picture) -> Picture:
    """The same picture row by row: interlacing costs bytes and changes no pixel."""
    header = picture.header
    if not header.interlaced:
        return picture
    plain = type(header)(header.width, header.height, header.depth, header.colour)
    return Picture(plain, picture.samples, picture.palette, picture.palette_alpha, picture.key)


def _smallest(candidates: list[Picture], plan: _EffortSteps) -> tuple[Picture, bytes]:
    unfiltered = [rows.rows_of(picture.samples, picture.header) for picture in candidates]
    ranked: list[tuple[int, int, int]] = []  # size, candidate, way
    first_ways = (rows.NONE, rows.LEAST_SUM)
    for number, (picture, plain) in enumerate(zip(candidates, unfiltered, strict=True)):
        overhead = _palette_bytes(picture)
        for way in first_ways:
            # Indexes have no magnitude: filters seldom help, and shallow depths never.
            if way != rows.NONE and picture.header.depth < 8:
                continue
            ranked.append((_estimate(plain, picture, way, 1) + overhead, number, way))
    ranked.sort()
    kept: list[int] = []
    for _, number, _ in ranked:
        if number not in kept and len(kept) < plan.forms:
            kept.append(number)
    again = []
    for number in kept:
        picture = candidates[number]
        for way in plan.ways:
            if way != rows.NONE and picture.header.depth < 8 and plan.passes == 0:
                continue
            size = _estimate(unfiltered[number], picture, way, plan.rank) + _palette_bytes(picture)
            again.append((size, number, way))
    again.sort()
    last = min(plan.last, _LARGE_LAST) if candidates[0].header.pixels > _LARGE else plan.last
    finals = []
    for _, number, way in again[: plan.finals]:
        picture = candidates[number]
        filtered = rows.filtered(unfiltered[number], picture.header.step, way).tobytes()
        finals.append((library.zlib_compress(filtered, last), number, filtered))
    if plan.passes:
        number = again[0][1]
        filtered = _each_row_tried(unfiltered[number], candidates[number].header.step)
        finals.append((library.zlib_compress(filtered, plan.last), number, filtered))
    stream, number, filtered = min(
        finals, key=lambda final: len(final[0]) + _palette_bytes(candidates[final[1]])
    )
    best = bytes(stream)
    if plan.passes:
        best = min(best, deflate.compress(filtered, plan.passes), key=len)
    return candidates[number], best


def _palette_bytes(picture: Picture) -> int:
    palette = 12 + picture.palette.size if picture.palette is not None else 0
    alpha = 12 + picture.palette_alpha.size if picture.palette_alpha is not None else 0
    return palette + alpha + (14 if picture.key is not None else 0)


def _estimate(plain: U8, picture: Picture, way: int, level: int) -> int:
    """Compressed bytes, of the whole or extrapolated from bands of a large picture."""
    height, size = plain.shape
    step = picture.header.step
    if plain.size <= _SAMPLE:
        return len(library.zlib_compress(rows.filtered(plain, step, way).tobytes(), level))
    tall = max(1, _SAMPLE // size // _BANDS)
    starts = np.linspace(0, height - tall, _BANDS).astype(int)
    bands = [rows.filtered(plain[start : start + tall], step, way).tobytes() for start in starts]
    return int(len(library.zlib_compress(b"".join(bands), level)) * height / (tall * _BANDS))


#: Bytes of earlier rows that a row is tried together with.
_CONTEXT = 8192


def _each_row_tried(plain: U8, step: int) -> bytes:
    """Each row in the filter that compresses best after the rows chosen before it."""
    each = rows.filtered_each(plain, step)
    out = bytearray()
    for y in range(plain.shape[0]):
        context = bytes(out[-_CONTEXT:])
        tried = [each[kind, y].tobytes() for kind in range(5)]
        sizes = [len(library.deflate_compress(context + row, 1)) for row in tried]
        out += tried[min(range(5), key=sizes.__getitem__)]
    return bytes(out)


def _file(picture: Picture, stream: bytes, kept: list[Chunk]) -> bytes:
    before, after = _arranged(kept)
    chunks = [picture.header.chunk(), *before, *_palette_chunks(picture)]
    chunks += [Chunk(b"IDAT", stream), *after, Chunk(b"IEND", b"")]
    return SIGNATURE + b"".join(chunk.encoded() for chunk in chunks)


#: Chunks that must come before the palette. Table 7.
_BEFORE = {b"cHRM", b"gAMA", b"iCCP", b"sRGB", b"cICP", b"mDCV", b"cLLI", b"sBIT", b"pHYs", b"eXIf"}


def _arranged(kept: list[Chunk]) -> tuple[list[Chunk], list[Chunk]]:
    before = [chunk for chunk in kept if chunk.name in _BEFORE]
    return before, [chunk for chunk in kept if chunk.name not in _BEFORE]


def _palette_chunks(picture: Picture) -> list[Chunk]:
    out = []
    if picture.palette is not None:
        out.append(Chunk(b"PLTE", picture.palette.tobytes()))
    if picture.palette_alpha is not None:
        out.append(Chunk(b"tRNS", picture.palette_alpha.tobytes()))
    if picture.key is not None:
        out.append(Chunk(b"tRNS", struct.pack(f">{len(picture.key)}H", *picture.key)))
    return out


def _encode_animated(file: PngFile, kept: list[Chunk], effort: Effort) -> bytes:
    """The frames compressed better, each by itself; their form is one for all and stays."""
    plan = _PLANS[effort]
    picture = replace_interlacing(file.picture)
    before, after = _arranged(kept)
    chunks = [picture.header.chunk(), *before, *_palette_chunks(picture)]
    chunks.append(Chunk(b"acTL", struct.pack(">II", len(file.frames), file.plays)))
    sequence = 0
    if file.first_is_still:
        chunks.append(Chunk(b"IDAT", _smallest([picture], plan)[1]))
    for number, frame in enumerate(file.frames):
        chunks.append(Chunk(b"fcTL", struct.pack(">I", sequence) + frame.control))
        sequence += 1
        height, width = frame.samples.shape[:2]
        header = type(picture.header)(width, height, picture.header.depth, picture.header.colour)
        stream = _smallest([Picture(header, frame.samples, picture.palette)], plan)[1]
        if number == 0 and not file.first_is_still:
            chunks.append(Chunk(b"IDAT", stream))
        else:
            chunks.append(Chunk(b"fdAT", struct.pack(">I", sequence) + stream))
            sequence += 1
    chunks += [*after, Chunk(b"IEND", b"")]
    return SIGNATURE + b"".join(chunk.encoded() for chunk in chunks)
