"""What a file is, from its content alone. Reads headers only; decodes no pixel.

Formats: JPEG (ITU-T T.81 B.1.1.3, B.2.2), PNG (W3C PNG third edition, 5 and 11), GIF89a, WebP
(RFC 9649), AVIF and HEIF (ISO/IEC 23008-12, AV1 Image File Format 1.1), and, to name them only,
TIFF, BMP, SVG and PDF.
"""

from __future__ import annotations

import math
import re
import struct
from dataclasses import dataclass
from typing import Literal

from .errors import Damaged, MoreDataNeeded, NotAPicture
from .formats import FormatName

#: A header that states longer sides is damaged, or made to harm.
MOST_SIDE = 1_000_000


@dataclass(frozen=True, slots=True)
class Facts:
    """What the header of a file says.

    ``width`` and ``height`` are stored pixels, before orientation; of a drawing (SVG) those that it is made
    for. 0 where nothing tells them. ``bits`` is per channel. ``orientation`` is the EXIF value, 1 to 8.
    ``arithmetic``: a JPEG with arithmetic coding, which browsers do not show.
    """

    format: FormatName
    width: int
    height: int
    bits: int = 8
    colour: Literal["grey", "rgb", "cmyk", "palette", "unknown"] = "unknown"
    alpha: bool = False
    animated: bool = False
    progressive: bool = False
    orientation: int = 1
    arithmetic: bool = False

    @property
    def pixels(self) -> int:
        return self.width * self.height

    @property
    def shown_size(self) -> tuple[int, int]:
        """Width and height as a viewer shows them, orientation applied."""
        return (self.height, self.width) if self.orientation >= 5 else (self.width, self.height)


def identify(data: bytes) -> Facts:
    """Reads the header of a file.

    ``data`` may be the first part of a file. Raises :class:`NotAPicture` for anything unknown,
    :class:`MoreDataNeeded` when the header goes on beyond ``data``, :class:`Damaged` when it
    contradicts its own format.
    """
    facts = _identify(data)
    if max(facts.width, facts.height) > MOST_SIDE:
        raise Damaged(f"its header states {facts.width:,} × {facts.height:,} pixels, which no picture has")
    return facts


def _identify(data: bytes) -> Facts:
    if not data:
        raise NotAPicture("the file is empty")
    try:
        if data[:3] == b"\xff\xd8\xff":
            return _jpeg(data)
        if data[:8] == b"\x89PNG\r\n\x1a\n":
            return _png(data)
        if data[:6] in (b"GIF87a", b"GIF89a"):
            return _gif(data)
        if data[:4] == b"RIFF" and data[8:12] == b"WEBP":
            return _webp(data)
        if data[4:8] == b"ftyp":
            return _isobmff(data)
        if data[:4] in (b"II*\0", b"MM\0*"):
            return _tiff(data)
        if data[:2] == b"BM" and len(data) >= 26 and data[6:10] == b"\0\0\0\0":
            width, height = struct.unpack_from("<ii", data, 18)
            if width <= 0 or height == 0:
                raise Damaged("the BMP states an impossible width or height")
            return Facts("bmp", width, abs(height))
    except (struct.error, IndexError, ValueError):
        raise MoreDataNeeded("the header is cut short") from None
    if data[:5] == b"%PDF-":
        return Facts("pdf", 0, 0)
    head = data[:4096].removeprefix(b"\xef\xbb\xbf").lstrip()
    if head[:1] == b"<" and re.search(rb"<svg[\s>]", head):
        return Facts("svg", *svg_size(data), alpha=True)
    raise NotAPicture("the content is not a picture format known here")


_ROOT = re.compile(rb"<svg\b([^>]*)>", re.S)
_SIDES = re.compile(rb"""(?<![\w:-])(width|height|viewBox)\s*=\s*["']([^"']{0,200})["']""")
_LENGTH = re.compile(rb"\s*(\d+\.?\d*|\.\d+)(?:e0)?(px|pt|pc|mm|cm|in)?\s*\Z")
#: CSS pixels in a unit (CSS Values and Units Level 3, 6.2).
_PIXELS = {b"pt": 96 / 72, b"pc": 16.0, b"mm": 96 / 25.4, b"cm": 96 / 2.54, b"in": 96.0}


def svg_size(data: bytes) -> tuple[int, int]:
    """Width and height of a drawing in CSS pixels, rounded up, by its own word or by its view; 0 where it
    says neither."""
    root = _ROOT.search(data[: 1 << 16])
    said = dict(_SIDES.findall(root.group(1))) if root is not None else {}
    view = [
        float(number)
        for number in re.findall(rb"[-+.\deE]+", said.get(b"viewBox", b""))
        if _is_number(number)
    ]
    sides = []
    for name, place in ((b"width", 2), (b"height", 3)):
        match = _LENGTH.match(said.get(name, b""))
        if match is not None:
            sides.append(float(match.group(1)) * _PIXELS.get(match.group(2), 1.0))
        else:
            sides.append(view[place] if len(view) == 4 else 0.0)
    width, height = (min(MOST_SIDE, max(0, math.ceil(side))) if math.isfinite(side) else 0 for side in sides)
    return width, height


def _is_number(text: bytes) -> bool:
    try:
        float(text)
    except ValueError:
        return False
    return True


def exif_orientation(tiff: bytes) -> int:
    """The Orientation value (tag 0x0112) of IFD0 of an EXIF block that starts at its TIFF header.

    1 when there is none, or when the block makes no sense (as viewers do).
    """
    order = {b"II": "<", b"MM": ">"}.get(tiff[:2])
    if order is None:
        return 1
    try:
        (offset,) = struct.unpack_from(order + "I", tiff, 4)
        (count,) = struct.unpack_from(order + "H", tiff, offset)
        for entry in range(min(count, 200)):
            tag, kind, _, value = struct.unpack_from(order + "HHIH", tiff, offset + 2 + 12 * entry)
            if tag == 0x0112 and kind == 3:
                return value if 1 <= value <= 8 else 1
    except struct.error:
        pass
    return 1


def _tiff(data: bytes) -> Facts:
    """Of the first picture; its size is 0 where its directory lies beyond the bytes given."""
    order = "<" if data[:2] == b"II" else ">"
    said: dict[int, int] = {}
    try:
        (offset,) = struct.unpack_from(order + "I", data, 4)
        (count,) = struct.unpack_from(order + "H", data, offset)
        for entry in range(min(count, 200)):
            tag, kind = struct.unpack_from(order + "HH", data, offset + 2 + 12 * entry)
            if kind in (3, 4):
                (said[tag],) = struct.unpack_from(
                    order + {3: "H", 4: "I"}[kind], data, offset + 10 + 12 * entry
                )
    except struct.error:
        return Facts("tiff", 0, 0)
    width, height, turned = said.get(256, 0), said.get(257, 0), said.get(274, 1)
    return Facts("tiff", width, height, orientation=turned if 1 <= turned <= 8 else 1)


def _jpeg(data: bytes) -> Facts:
    position, orientation = 2, 1
    while True:
        position = data.index(b"\xff", position)  # stray bytes between segments: tolerated, as browsers do
        while data[position] == 0xFF:
            position += 1
        marker = data[position]
        position += 1
        if marker in (0x00, 0x01, 0xD8) or 0xD0 <= marker <= 0xD7:
            continue
        if marker in (0xD9, 0xDA):
            raise Damaged("the JPEG has no frame header before its picture data")
        (length,) = struct.unpack_from(">H", data, position)
        if length < 2:
            raise Damaged("the JPEG has a segment of impossible length")
        body = data[position + 2 : position + length]
        if 0xC0 <= marker <= 0xCF and marker not in (0xC4, 0xC8, 0xCC):
            bits, height, width, components = struct.unpack_from(">BHHB", data, position + 2)
            if width == 0 or height == 0:
                raise Damaged("the JPEG states a width or height of 0")
            colour: Literal["grey", "rgb", "cmyk"] = "rgb"
            if components == 1:
                colour = "grey"
            elif components == 4:
                colour = "cmyk"
            progressive = marker in (0xC2, 0xC6, 0xCA, 0xCE)
            return Facts(
                "jpeg",
                width,
                height,
                bits,
                colour,
                progressive=progressive,
                orientation=orientation,
                arithmetic=marker > 0xC8,
            )
        if marker == 0xE1 and body[:6] == b"Exif\0\0":
            orientation = exif_orientation(body[6:])
        position += length


def _png(data: bytes) -> Facts:
    if data[12:16] != b"IHDR":
        raise Damaged("the PNG does not begin with its header chunk")
    width, height, bits, kind, _, _, interlace = struct.unpack_from(">IIBBBBB", data, 16)
    if width == 0 or height == 0:
        raise Damaged("the PNG states a width or height of 0")
    colours: dict[int, Literal["grey", "rgb", "palette"]] = {
        0: "grey",
        2: "rgb",
        3: "palette",
        4: "grey",
        6: "rgb",
    }
    if kind not in colours:
        raise Damaged(f"the PNG states colour type {kind}, which does not exist")
    alpha, animated, orientation, position = kind in (4, 6), False, 1, 33
    while position + 8 <= len(data):
        (length,) = struct.unpack_from(">I", data, position)
        name = data[position + 4 : position + 8]
        if name in (b"IDAT", b"IEND"):
            break
        if name == b"tRNS":
            alpha = True
        elif name == b"acTL":
            animated = struct.unpack_from(">I", data, position + 8)[0] > 1
        elif name == b"eXIf":
            orientation = exif_orientation(data[position + 8 : position + 8 + length])
        position += 12 + length
    else:
        raise MoreDataNeeded("the PNG header goes on")
    return Facts("png", width, height, bits, colours[kind], alpha, animated, bool(interlace), orientation)


def _gif(data: bytes) -> Facts:
    width, height, packed = struct.unpack_from("<HHB", data, 6)
    position = 13 + (3 << (packed & 7) + 1 if packed & 0x80 else 0)
    frames, alpha = 0, False
    while frames < 2 and position < len(data):
        kind = data[position]
        if kind == 0x3B:
            break
        if kind == 0x21:
            if data[position + 1] == 0xF9:
                alpha = alpha or bool(data[position + 3] & 1)
            position += 2
        elif kind == 0x2C:
            frames += 1
            local = data[position + 9]
            position += 11 + (3 << (local & 7) + 1 if local & 0x80 else 0)
        else:
            raise Damaged("the GIF holds a block that does not exist")
        while position < len(data) and data[position]:
            position += data[position] + 1
        position += 1
    if frames < 2 and position > len(data):
        raise MoreDataNeeded("the first GIF frame goes on")
    if width == 0 or height == 0:
        raise Damaged("the GIF states a width or height of 0")
    return Facts("gif", width, height, 8, "palette", alpha, frames > 1)


def _webp(data: bytes) -> Facts:
    kind = data[12:16]
    if kind == b"VP8 ":
        if data[23:26] != b"\x9d\x01\x2a":
            raise Damaged("the WebP frame has no start code")
        width, height = struct.unpack_from("<HH", data, 26)
        return Facts("webp", width & 0x3FFF, height & 0x3FFF, 8, "rgb")
    if kind == b"VP8L":
        (bits,) = struct.unpack_from("<I", data, 21)
        return Facts("webp", (bits & 0x3FFF) + 1, (bits >> 14 & 0x3FFF) + 1, 8, "rgb", bool(bits >> 28 & 1))
    if kind == b"VP8X":
        flags = data[20]
        width = int.from_bytes(data[24:27], "little") + 1
        height = int.from_bytes(data[27:30], "little") + 1
        if len(data) < 30:
            raise MoreDataNeeded("the WebP header is cut short")
        return Facts("webp", width, height, 8, "rgb", bool(flags & 0x10), bool(flags & 0x02))
    raise Damaged("the WebP holds no picture chunk")


def _isobmff(data: bytes) -> Facts:
    (size,) = struct.unpack_from(">I", data, 0)
    brands = {data[8:12]} | {data[at : at + 4] for at in range(16, min(size, len(data), 4096), 4)}
    if brands & {b"avif", b"avis"}:
        kind: FormatName = "avif"
    elif brands & {b"heic", b"heix", b"mif1", b"heim"}:
        kind = "heif"
    else:
        raise NotAPicture("the content is a media container, not a picture format known here")
    # The largest spatial extent is the picture; smaller ones are thumbnails, tiles or alpha planes.
    extents = [
        struct.unpack_from(">II", data, match.end() + 4) for match in re.finditer(rb"ispe", data[: 1 << 16])
    ]
    if not extents:
        raise MoreDataNeeded("the picture's size is not in the first part of the file")
    width, height = max(extents, key=lambda extent: extent[0] * extent[1])
    alpha = b"auxid:1" in data[: 1 << 16] or b":alpha" in data[: 1 << 16]
    rotations = re.search(rb"irot(.)", data[: 1 << 16], re.S)
    orientation = {0: 1, 1: 8, 2: 3, 3: 6}[rotations.group(1)[0] & 3] if rotations else 1
    return Facts(kind, width, height, 8, "rgb", alpha, data[8:12] == b"avis", False, orientation)
