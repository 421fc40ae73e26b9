"""What a file's metadata says of its picture in words: captions, headlines, titles, credits, places.

Exif 3.0, 4.6.5.4 (ImageDescription); IPTC-IIM 4.2, datasets 2:05, 2:105, 2:110, 2:120, 2:90 and 2:92; XMP
(ISO 16684-1) with the IPTC Photo Metadata Standard 2023.1, of which AltTextAccessibility is made for this.
Reads JPEG, PNG and WebP without decoding a pixel.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator
from xml.etree.ElementTree import Element, ParseError

from defusedxml import DefusedXmlException
from defusedxml.ElementTree import fromstring

from . import exif, iptc

_EXIF_PREFIX = b"Exif\0\0"
_XMP_PREFIX = b"http://ns.adobe.com/xap/1.0/\0"
_XMP_KEYWORD = b"XML:com.adobe.xmp\0"
_RDF = "{http://www.w3.org/1999/02/22-rdf-syntax-ns#}"
_DC, _PS = "{http://purl.org/dc/elements/1.1/}", "{http://ns.adobe.com/photoshop/1.0/}"
_CORE = "{http://iptc.org/std/Iptc4xmpCore/1.0/xmlns/}"
_LANGUAGE = "{http://www.w3.org/XML/1998/namespace}lang"
_IPTC = {
    5: "iptc-title",
    105: "iptc-headline",
    110: "iptc-credit",
    120: "iptc-caption",
    92: "iptc-place",
    90: "iptc-place",
}
_XMP = {
    _CORE + "AltTextAccessibility": "xmp-alternative",
    _DC + "description": "xmp-caption",
    _PS + "Headline": "xmp-headline",
    _DC + "title": "xmp-title",
    _PS + "Credit": "xmp-credit",
    _CORE + "Location": "xmp-place",
    _PS + "City": "xmp-place",
}
#: Longer than this nothing is kept; so many texts at most.
_LONGEST, _MOST = 2_000, 40
#: What cameras write where a caption belongs.
_SAYS_NOTHING = {
    "olympus digital camera",
    "digital camera",
    "sony dsc",
    "kodak digital still camera",
    "default",
}


def embedded_texts(data: bytes) -> list[tuple[str, str]]:
    """Sources and texts, such as ``("xmp-caption", "The lamp room in June")``; each text of a source once.

    ``data`` may be the first part of a file. What is damaged says nothing.
    """
    found: dict[tuple[str, str], None] = {}
    for kind, block in _blocks(data):
        for source, text in _READERS[kind](block):
            plain = _plain(text)
            if plain and plain.casefold() not in _SAYS_NOTHING:
                found[source, plain] = None
                if len(found) == _MOST:
                    return list(found)
    return list(found)


def _plain(text: str) -> str:
    kept = (letter for letter in text[: 2 * _LONGEST] if letter.isprintable() or letter in "\n\t ")
    return "".join(kept).strip()[:_LONGEST]


def _blocks(data: bytes) -> Iterator[tuple[str, bytes]]:
    if data[:3] == b"\xff\xd8\xff":
        yield from _in_jpeg(data)
    elif data[:8] == b"\x89PNG\r\n\x1a\n":
        yield from _in_png(data)
    elif data[:4] == b"RIFF" and data[8:12] == b"WEBP":
        yield from _in_webp(data)


def _in_jpeg(data: bytes) -> Iterator[tuple[str, bytes]]:
    """APP1 and APP13 before the first scan (ITU-T T.81, B.1.1.3)."""
    at = 2
    while at + 4 <= len(data) and data[at] == 0xFF:
        marker = data[at + 1]
        if marker == 0xFF:  # fill
            at += 1
            continue
        if marker == 0xDA:
            return
        (size,) = struct.unpack_from(">H", data, at + 2)
        body = data[at + 4 : at + 2 + size]
        if marker == 0xE1 and body.startswith(_EXIF_PREFIX):
            yield "exif", body[len(_EXIF_PREFIX) :]
        elif marker == 0xE1 and body.startswith(_XMP_PREFIX):
            yield "xmp", body[len(_XMP_PREFIX) :]
        elif marker == 0xED and body.startswith(iptc.PREFIX):
            yield "iptc", body[len(iptc.PREFIX) :]
        at += 2 + max(size, 2)


def _in_png(data: bytes) -> Iterator[tuple[str, bytes]]:
    """XMP in an uncompressed iTXt chunk (PNG third edition, 11.3.3.4; XMP part 3, 1.1.5)."""
    at = 8
    while at + 12 <= len(data):
        size, name = struct.unpack_from(">I4s", data, at)
        if name == b"iTXt" and data.startswith(_XMP_KEYWORD, at + 8):
            body = data[at + 8 + len(_XMP_KEYWORD) : at + 8 + size]
            compressed, rest = body[:1], body[2:]
            packet = rest.split(b"\0", 2)
            if compressed == b"\0" and len(packet) == 3:
                yield "xmp", packet[2]
        at += 12 + size


def _in_webp(data: bytes) -> Iterator[tuple[str, bytes]]:
    """The XMP chunk (RFC 9649, section 2.7.1.5)."""
    at = 12
    while at + 8 <= len(data):
        name, size = struct.unpack_from("<4sI", data, at)
        if name == b"XMP ":
            yield "xmp", data[at + 8 : at + 8 + size]
        at += 8 + size + size % 2


def _of_exif(block: bytes) -> Iterator[tuple[str, str]]:
    try:
        described = exif.parse(block).picture.get(0x010E)
    except exif.ExifError:
        return
    if described is not None:
        yield "exif-caption", _decoded(described.value.split(b"\0", 1)[0])


def _of_iptc(block: bytes) -> Iterator[tuple[str, str]]:
    for name, value in iptc.datasets(block):
        if name in _IPTC:
            yield _IPTC[name], _decoded(value)


def _decoded(value: bytes) -> str:
    try:
        return value.decode()
    except UnicodeDecodeError:
        return value.decode("cp1252", "replace")


def _of_xmp(packet: bytes) -> Iterator[tuple[str, str]]:
    try:
        root = fromstring(packet.strip(b"\0 \r\n\t"))
    except (ParseError, DefusedXmlException, ValueError, LookupError):
        return
    for description in root.iter(_RDF + "Description"):
        for name, source in _XMP.items():
            if text := description.get(name):
                yield source, text
            for element in description.findall(name):
                yield from ((source, text) for text in _values(element))


def _values(element: Element) -> Iterator[str]:
    """A plain value, or those of a language alternative with the default first (ISO 16684-1, 8.2.2.4)."""
    items = [item for container in element for item in container if item.tag == _RDF + "li" and item.text]
    items.sort(key=lambda item: item.get(_LANGUAGE) != "x-default")
    if items:
        yield from (item.text or "" for item in items)
    elif element.text:
        yield element.text


_READERS: dict[str, Callable[[bytes], Iterator[tuple[str, str]]]] = {
    "exif": _of_exif,
    "iptc": _of_iptc,
    "xmp": _of_xmp,
}
