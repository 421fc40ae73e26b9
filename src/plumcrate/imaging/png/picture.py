"""A PNG taken apart into samples, and what those samples mean."""

from __future__ import annotations

import struct
import zlib
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from .chunks import GREY_ALPHA, PALETTE, RGB, RGBA, Chunk, Header, PngError, parse_header, read_chunks
from .rows import U8, Samples, raw_size, samples_of

#: Chunks that belong to the picture data and are written anew.
_OWN = {b"IHDR", b"PLTE", b"IDAT", b"IEND", b"tRNS", b"acTL", b"fcTL", b"fdAT"}


@dataclass(frozen=True, slots=True)
class Picture:
    """Samples (height, width, channels) as stored, with their header, palette and transparency.

    ``palette`` is (colours, 3) uint8, ``palette_alpha`` its first colours' alpha; ``key`` the one sample
    value that is transparent in a picture without alpha.
    """

    header: Header
    samples: Samples
    palette: U8 | None = None
    palette_alpha: U8 | None = None
    key: tuple[int, ...] | None = None

    @property
    def deep(self) -> bool:
        """Whether it has more than 8 bits a sample."""
        return self.header.depth == 16

    def shown(self) -> NDArray[np.uint8]:
        """The same as screens show it, (height, width, 4): 16 bits rounded to 8."""
        rgba = self.rgba()
        return (
            ((rgba.astype(np.uint32) + 128) // 257).astype(np.uint8) if self.deep else rgba.astype(np.uint8)
        )

    def rgba(self) -> Samples:
        """Red, green, blue and straight alpha, (height, width, 4): uint16 when deep, else uint8."""
        samples, header = self.samples, self.header
        full = 65535 if self.deep else 255
        out = np.empty((*samples.shape[:2], 4), samples.dtype)
        out[..., 3] = full
        if header.colour == PALETTE:
            assert self.palette is not None
            colours = np.full((256, 4), 255, np.uint8)
            colours[: len(self.palette), :3] = self.palette
            if self.palette_alpha is not None:
                colours[: len(self.palette_alpha), 3] = self.palette_alpha
            return colours[samples[..., 0]]
        if header.depth < 8:
            out[..., :3] = samples * np.uint8(255 // ((1 << header.depth) - 1))
        else:
            out[..., :3] = samples[..., : 3 if header.colour in (RGB, RGBA) else 1]
        if header.colour in (GREY_ALPHA, RGBA):
            out[..., 3] = samples[..., -1]
        if self.key is not None:
            out[..., 3][(samples == np.array(self.key, samples.dtype)).all(axis=2)] = 0
        return out


@dataclass(frozen=True, slots=True)
class Frame:
    """One frame of an animation: its fcTL without the sequence number, and its samples."""

    control: bytes
    samples: Samples


@dataclass(frozen=True, slots=True)
class PngFile:
    """A whole file: the picture every decoder shows, ancillary chunks in order, animation.

    ``first_is_still`` says that the animation does not include the default picture. ``plays`` is
    how often it runs, 0 for ever.
    """

    picture: Picture
    ancillary: list[Chunk]
    frames: list[Frame] = field(default_factory=list)
    first_is_still: bool = False
    plays: int = 0


def read_png(data: bytes, most_pixels: int) -> PngFile:
    """Reads a PNG of any colour type, depth and interlacing, animated ones too.

    Raises :class:`PngError` for a file that is damaged, larger than ``most_pixels``, or uses a critical
    chunk that is not known.
    """
    chunks, _ = read_chunks(data)
    header = parse_header(chunks)
    if header.width * header.height > most_pixels:
        raise PngError("the PNG has more pixels than the limit")
    unknown = [chunk for chunk in chunks if chunk.critical and chunk.name not in _OWN]
    if unknown:
        raise PngError("the PNG has a critical chunk that is not known here")
    palette, palette_alpha, key = _palette_of(chunks, header)
    joined = b"".join(chunk.body for chunk in chunks if chunk.name == b"IDAT")
    samples = _inflated(joined, header)
    if header.colour == PALETTE:
        assert palette is not None
        if int(samples.max()) >= len(palette):
            raise PngError("the PNG uses a colour that its palette does not have")
    picture = Picture(header, samples, palette, palette_alpha, key)
    ancillary = [chunk for chunk in chunks if chunk.name not in _OWN]
    if not any(chunk.name == b"acTL" for chunk in chunks):
        return PngFile(picture, ancillary)
    return _animated(PngFile(picture, ancillary), chunks, most_pixels)


def _palette_of(chunks: list[Chunk], header: Header) -> tuple[U8 | None, U8 | None, tuple[int, ...] | None]:
    by_name = {chunk.name: chunk.body for chunk in chunks}
    palette: U8 | None = None
    if header.colour == PALETTE:
        body = by_name.get(b"PLTE", b"")
        if not body or len(body) % 3 or len(body) > 768:
            raise PngError("the PNG has no proper palette")
        palette = np.frombuffer(body, np.uint8).reshape(-1, 3)
    transparency = by_name.get(b"tRNS")
    if transparency is None or header.colour in (GREY_ALPHA, RGBA):
        return palette, None, None
    if header.colour == PALETTE:
        assert palette is not None
        return palette, np.frombuffer(transparency, np.uint8)[: len(palette)], None
    if len(transparency) != 2 * header.channels:
        raise PngError("the PNG's transparency makes no sense")
    mask = (1 << header.depth) - 1
    return None, None, tuple(value & mask for value in struct.unpack(f">{header.channels}H", transparency))


def _inflated(stream: bytes, header: Header) -> Samples:
    size = raw_size(header)
    inflater = zlib.decompressobj()
    try:
        raw = inflater.decompress(stream, size)
    except zlib.error:
        raise PngError("the PNG's compressed data are damaged") from None
    if len(raw) < size:
        raise PngError("the PNG's compressed data end too early")
    samples = samples_of(np.frombuffer(raw, np.uint8), header)
    if samples is None:
        raise PngError("the PNG uses a filter that does not exist")
    return samples


def _animated(still: PngFile, chunks: list[Chunk], most_pixels: int) -> PngFile:
    """Section 13 of the third edition: acTL, fcTL and fdAT."""
    header = still.picture.header
    plays = 0
    controls: list[tuple[bytes, list[bytes], bool]] = []  # fcTL, its data, whether those are the IDATs
    for chunk in chunks:
        if chunk.name == b"acTL" and len(chunk.body) == 8:
            plays = struct.unpack(">II", chunk.body)[1]
        elif chunk.name == b"fcTL":
            if len(chunk.body) != 26:
                raise PngError("the PNG's animation makes no sense")
            controls.append((chunk.body[4:], [], False))
        elif chunk.name == b"fdAT" and controls:
            controls[-1][1].append(chunk.body[4:])
        elif chunk.name == b"IDAT" and controls and not controls[-1][2]:
            controls[-1] = (controls[-1][0], [], True)
    frames: list[Frame] = []
    pixels = 0
    for control, parts, is_default in controls:
        width, height, left, top = struct.unpack_from(">IIII", control)
        pixels += width * height
        if not 0 < width <= header.width - left or not 0 < height <= header.height - top:
            raise PngError("the PNG has a frame that lies outside the picture")
        if pixels > most_pixels:
            raise PngError("the PNG's frames have more pixels than the limit")
        if is_default:
            frames.append(Frame(control, still.picture.samples))
            continue
        samples = _inflated(b"".join(parts), replace(header, width=width, height=height))
        frames.append(Frame(control, samples))
    if not frames:
        raise PngError("the PNG's animation has no frames")
    return replace(still, frames=frames, first_is_still=not controls[0][2], plays=plays)


def same_pixels(first: Picture, second: Picture, *, hidden_matters: bool = False) -> bool:
    """Whether two pictures show the same: equal alpha, equal colour wherever alpha is not 0.

    ``hidden_matters`` compares the colour under full transparency too.
    """
    if first.samples.shape[:2] != second.samples.shape[:2]:
        return False
    ours, theirs = (p.rgba() for p in (first, second))
    if ours.dtype != theirs.dtype:
        ours, theirs = (_deepened(values) for values in (ours, theirs))
    if hidden_matters or not (ours[..., 3] == 0).any():
        return bool(np.array_equal(ours, theirs))
    if not np.array_equal(ours[..., 3], theirs[..., 3]):
        return False
    return not bool(((ours != theirs).any(axis=2) & (ours[..., 3] != 0)).any())


def _deepened(values: Samples) -> NDArray[np.uint16]:
    return values.astype(np.uint16) * np.uint16(257) if values.dtype == np.uint8 else values.astype(np.uint16)
