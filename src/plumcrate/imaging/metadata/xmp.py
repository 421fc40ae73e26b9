"""XMP packets: RDF/XML (ISO 16684-1), with only the properties to keep."""

from __future__ import annotations

from xml.etree import ElementTree

from defusedxml import DefusedXmlException
from defusedxml.ElementTree import fromstring

from ..kinds import EVERYTHING, Keep, Kind

_RDF = "{http://www.w3.org/1999/02/22-rdf-syntax-ns#}"
_PREFIXES = {
    "http://www.w3.org/1999/02/22-rdf-syntax-ns#": "rdf",
    "adobe:ns:meta/": "x",
    "http://purl.org/dc/elements/1.1/": "dc",
    "http://ns.adobe.com/xap/1.0/": "xmp",
    "http://ns.adobe.com/xap/1.0/rights/": "xmpRights",
    "http://ns.adobe.com/xap/1.0/mm/": "xmpMM",
    "http://ns.adobe.com/photoshop/1.0/": "photoshop",
    "http://ns.adobe.com/exif/1.0/": "exif",
    "http://cipa.jp/exif/1.0/": "exifEX",
    "http://ns.adobe.com/tiff/1.0/": "tiff",
    "http://ns.adobe.com/exif/1.0/aux/": "aux",
    "http://iptc.org/std/Iptc4xmpCore/1.0/xmlns/": "Iptc4xmpCore",
    "http://iptc.org/std/Iptc4xmpExt/2008-02-29/": "Iptc4xmpExt",
    "http://ns.useplus.org/ldf/xmp/1.0/": "plus",
    "http://creativecommons.org/ns#": "cc",
    "http://ns.adobe.com/hdr-gain-map/1.0/": "hdrgm",
    "http://ns.google.com/photos/1.0/container/": "Container",
    "http://ns.google.com/photos/1.0/container/item/": "Item",
    "http://ns.google.com/photos/1.0/camera/": "GCamera",
}
_DC, _XMP, _PS, _EXIF, _TIFF = (
    "{http://purl.org/dc/elements/1.1/}",
    "{http://ns.adobe.com/xap/1.0/}",
    "{http://ns.adobe.com/photoshop/1.0/}",
    "{http://ns.adobe.com/exif/1.0/}",
    "{http://ns.adobe.com/tiff/1.0/}",
)
#: What tells of pictures and films that follow in the same file: a gain map, their list, a film of seconds.
_OF_FURTHER = (
    "http://ns.adobe.com/hdr-gain-map/1.0/",
    "http://ns.google.com/photos/1.0/container/",
    "http://ns.google.com/photos/1.0/camera/",
)
_OF_FURTHER_TAGS = tuple("{" + space for space in _OF_FURTHER)
_WHOLE = {
    "{http://ns.adobe.com/xap/1.0/rights/}": Kind.RIGHTS,
    "{http://ns.useplus.org/ldf/xmp/1.0/}": Kind.RIGHTS,
    "{http://creativecommons.org/ns#}": Kind.RIGHTS,
    "{http://ns.adobe.com/exif/1.0/aux/}": Kind.CAMERA,
    "{http://cipa.jp/exif/1.0/}": Kind.CAMERA,
    _EXIF: Kind.CAMERA,
}
_SINGLE = {
    **dict.fromkeys((_DC + "creator", _DC + "rights", _DC + "publisher"), Kind.RIGHTS),
    **dict.fromkeys((_PS + "Credit", _PS + "Source", _PS + "AuthorsPosition"), Kind.RIGHTS),
    **dict.fromkeys((_TIFF + "Artist", _TIFF + "Copyright"), Kind.RIGHTS),
    **dict.fromkeys((_TIFF + "Make", _TIFF + "Model"), Kind.CAMERA),
    **dict.fromkeys((_XMP + "CreateDate", _PS + "DateCreated", _TIFF + "DateTime"), Kind.TIME),
    **dict.fromkeys((_EXIF + "DateTimeOriginal", _EXIF + "DateTimeDigitized", _DC + "date"), Kind.TIME),
    **dict.fromkeys((_PS + "City", _PS + "State", _PS + "Country"), Kind.PLACE),
}


def kind_of(name: str) -> Kind:
    if name in _SINGLE:
        return _SINGLE[name]
    if name.startswith(_EXIF + "GPS"):
        return Kind.PLACE
    space, _, local = name.partition("}")
    if local.startswith(("Location", "CountryCode")):
        return Kind.PLACE
    return _WHOLE.get(space + "}", Kind.REST)


def kept(packet: bytes, keep: Keep, further: bool | None = None) -> bytes:
    """The packet with only the properties to keep; whole when everything is, else nothing or less.

    ``further``: whether pictures and films that followed in the file still do; what tells of them stays then
    whatever is kept, and goes where they are gone. None where there are none.
    """
    tells = any(space.encode() in packet for space in _OF_FURTHER)
    if keep == EVERYTHING and (further is not False or not tells):
        return packet
    try:
        root = fromstring(packet.strip(b"\0 \r\n\t"))
    except (ElementTree.ParseError, DefusedXmlException, ValueError):
        return b""
    left = 0
    # Descriptions within others belong to the property they stand in; those of the packet's own level are
    # all of one picture, however many a writer made of it (ISO 16684-1, 7.4).
    for resources in root.iter(_RDF + "RDF") if root.tag != _RDF + "RDF" else [root]:
        for description in list(resources):
            stays = _filter(description, keep, further)
            left += stays
            if not stays:
                resources.remove(description)
    if not left:
        return b""
    for uri, prefix in _PREFIXES.items():
        ElementTree.register_namespace(prefix, uri)
    body: bytes = ElementTree.tostring(root, encoding="utf-8")
    return b'<?xpacket begin="" id="W5M0MpCehiHzreSzNTczkc9d"?>' + body + b'<?xpacket end="w"?>'


def _filter(description: ElementTree.Element, keep: Keep, further: bool | None) -> int:
    """Takes out what is not kept; the number of properties that stay."""

    def stays(name: str) -> bool:
        of_further = name.startswith(_OF_FURTHER_TAGS)
        return further if of_further and further is not None else kind_of(name) in keep

    left = 0
    for name in list(description.attrib):
        if name.startswith(_RDF):
            continue
        if stays(name):
            left += 1
        else:
            del description.attrib[name]
    for child in list(description):
        if stays(child.tag):
            left += 1
        else:
            description.remove(child)
    return left
