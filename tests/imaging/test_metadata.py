"""Metadata kept by kind, in JPEG and PNG; thumbnails never; looks always."""

import io
import struct

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from outputs import data_of
from PIL import Image, ImageCms

from plumcrate.imaging import Kind, Level, Recipe, identify, treat
from plumcrate.imaging.identification import exif_orientation
from plumcrate.imaging.kinds import EVERYTHING, NOTHING
from plumcrate.imaging.metadata import exif, iptc, xmp
from plumcrate.imaging.metadata.exif import Exif, Tag
from plumcrate.imaging.metadata.texts import embedded_texts

XMP = b"""<?xpacket begin="" id="x"?><x:xmpmeta xmlns:x="adobe:ns:meta/"><rdf:RDF
 xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#"><rdf:Description rdf:about=""
 xmlns:dc="http://purl.org/dc/elements/1.1/" xmlns:photoshop="http://ns.adobe.com/photoshop/1.0/"
 xmlns:exif="http://ns.adobe.com/exif/1.0/" photoshop:City="Gannet Ledge" photoshop:Credit="The Trust"
 exif:GPSLatitude="58,1N"><dc:rights><rdf:Alt><rdf:li xml:lang="x-default">(c) The Trust</rdf:li></rdf:Alt>
 </dc:rights><dc:subject><rdf:Bag><rdf:li>lamp</rdf:li></rdf:Bag></dc:subject></rdf:Description></rdf:RDF>
 </x:xmpmeta><?xpacket end="w"?>"""
IPTC = b"".join(
    b"\x1c\x02" + bytes([number]) + struct.pack(">H", len(text)) + text
    for number, text in ((80, b"A. Keeper"), (90, b"Gannet Ledge"), (55, b"20260314"), (25, b"lamp"))
)
RESOURCES = b"8BIM\x04\x04\0\0" + struct.pack(">I", len(IPTC)) + IPTC + b"\0" * (len(IPTC) % 2)
RESOURCES += b"8BIM\x04\x0c\0\0" + struct.pack(">I", 4) + b"tiny"


def tags(order: str = "<") -> Exif:
    return Exif(
        order,
        picture={
            0x010F: Tag(2, 6, b"Maker\0"),
            0x0112: Tag(3, 1, struct.pack(order + "H", 6)),
            0x0132: Tag(2, 20, b"2026:03:14 06:05:04\0"),
            0x010E: Tag(2, 9, b"The lamp\0"),
            0x8298: Tag(2, 14, b"(c) The Trust\0"),
        },
        camera={
            0x9003: Tag(2, 20, b"2026:03:14 06:05:04\0"),
            0x829A: Tag(5, 1, struct.pack(order + "II", 1, 250)),
        },
        place={1: Tag(2, 2, b"N\0"), 2: Tag(5, 3, struct.pack(order + "6I", 58, 1, 6, 1, 30, 1))},
    )


def with_thumbnail(block: bytes) -> bytes:
    """The block with a second directory, as cameras write for a preview."""
    count = struct.unpack_from("<H", block, 8)[0]
    at = 10 + 12 * count
    return (
        block[:at]
        + struct.pack("<I", len(block))
        + block[at + 4 :]
        + struct.pack("<HI", 0, 0)
        + b"JPEG" * 900
    )


@pytest.mark.parametrize("order", ["<", ">"])
def test_exif_is_read_and_written_as_others_do(order: str) -> None:
    block = exif.build(tags(order))
    again = exif.parse(block)
    assert (again.picture, again.camera, again.place) == (
        tags(order).picture,
        tags(order).camera,
        tags(order).place,
    )
    theirs = Image.Exif()
    theirs.load(b"Exif\0\0" + block)
    assert theirs[0x8298] == "(c) The Trust"
    assert theirs.get_ifd(0x8769)[0x9003] == "2026:03:14 06:05:04"
    assert theirs.get_ifd(0x8825)[2] == (58.0, 6.0, 30.0)


@pytest.mark.parametrize(
    ("keep", "picture", "camera", "place"),
    [
        (NOTHING, {0x0112}, set(), False),
        ({Kind.RIGHTS}, {0x0112, 0x8298}, set(), False),
        ({Kind.TIME}, {0x0112, 0x0132}, {0x9003}, False),
        ({Kind.PLACE}, {0x0112}, set(), True),
        ({Kind.CAMERA}, {0x0112, 0x010F}, {0x829A}, False),
        (EVERYTHING, {0x0112, 0x010F, 0x0132, 0x010E, 0x8298}, {0x9003, 0x829A}, True),
    ],
)
def test_kinds_are_kept_and_orientation_always(
    keep: set[Kind], picture: set[int], camera: set[int], place: bool
) -> None:
    block = exif.kept(with_thumbnail(exif.build(tags())), frozenset(keep))
    kept = exif.parse(block)
    assert (set(kept.picture), set(kept.camera), bool(kept.place)) == (picture, camera, place)
    assert not kept.has_thumbnail
    assert exif_orientation(block) == 6
    turned = exif.kept(exif.build(tags()), frozenset(keep), upright=True)
    assert not turned or exif_orientation(turned) == 1


def test_what_need_not_change_stays_byte_for_byte() -> None:
    block = exif.build(tags())
    assert exif.kept(block, EVERYTHING) is block
    assert exif.kept(b"not exif at all", EVERYTHING) == b"not exif at all"
    assert exif.kept(b"not exif at all", NOTHING) == b""


@given(
    edits=st.lists(st.tuples(st.integers(0, 1 << 20), st.integers(0, 255)), max_size=12),
    cut=st.integers(0, 60),
    keep=st.frozensets(st.sampled_from(list(Kind))),
)
def test_damaged_blocks_never_break_anything(
    edits: list[tuple[int, int]], cut: int, keep: frozenset[Kind]
) -> None:
    for block, act in ((exif.build(tags()), exif.kept), (RESOURCES, iptc.kept), (XMP, xmp.kept)):
        mutated = bytearray(block[: len(block) - cut])
        for place, value in edits:
            mutated[place % len(mutated)] = value
        act(bytes(mutated), keep)


def test_iptc_and_xmp_by_kind() -> None:
    rights = iptc.kept(RESOURCES, frozenset({Kind.RIGHTS}))
    assert b"A. Keeper" in rights
    assert b"Gannet Ledge" not in rights
    assert b"tiny" not in iptc.kept(RESOURCES, EVERYTHING), "a thumbnail goes whatever is kept"
    assert iptc.kept(RESOURCES, NOTHING) == b""
    packet = xmp.kept(XMP, frozenset({Kind.RIGHTS}))
    assert b"(c) The Trust" in packet
    assert b"photoshop:Credit" in packet
    assert b"City" not in packet
    assert b"GPS" not in packet
    assert b"lamp" not in packet
    assert b"Gannet Ledge" in xmp.kept(XMP, frozenset({Kind.PLACE}))
    assert xmp.kept(XMP, NOTHING) == b""
    assert xmp.kept(XMP, EVERYTHING) == XMP


@pytest.mark.parametrize("level", [Level.EXACT, Level.LEAN])
@pytest.mark.parametrize("kind", ["JPEG", "PNG"])
def test_files_keep_what_the_recipe_keeps(kind: str, level: Level) -> None:
    rng = np.random.default_rng(1)
    rgb = np.cumsum(rng.integers(0, 3, (200, 300, 3)), axis=1).clip(0, 255).astype(np.uint8)
    profile = ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes()
    out = io.BytesIO()
    options = {"quality": 97} if kind == "JPEG" else {"compress_level": 1}
    block = b"Exif\0\0" + with_thumbnail(exif.build(tags()))
    Image.fromarray(rgb).save(out, kind, exif=block, icc_profile=profile, **options)
    for keep, has_rights, has_place in (
        (NOTHING, False, False),
        ({Kind.RIGHTS}, True, False),
        (EVERYTHING, True, True),
    ):
        recipe = Recipe(level, copies=frozenset(), metadata=frozenset(keep))
        treated = data_of(treat(out.getvalue(), recipe).main)
        assert treated is not None
        assert identify(treated).orientation == 6
        with Image.open(io.BytesIO(treated)) as image:
            assert image.info["icc_profile"] == profile
            found = image.getexif()
            assert (0x8298 in found) == has_rights
            assert bool(found.get_ifd(0x8825)) == has_place
            assert b"JPEG" * 900 not in treated


def packet_of(*descriptions: str) -> bytes:
    spaces = (
        'xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#" xmlns:dc="http://purl.org/dc/elements/1.1/" '
        'xmlns:photoshop="http://ns.adobe.com/photoshop/1.0/" xmlns:exif="http://ns.adobe.com/exif/1.0/" '
        'xmlns:xmp="http://ns.adobe.com/xap/1.0/"'
    )
    body = "".join(f'<rdf:Description rdf:about="" {one}/>' for one in descriptions)
    return f'<x:xmpmeta xmlns:x="adobe:ns:meta/"><rdf:RDF {spaces}>{body}</rdf:RDF></x:xmpmeta>'.encode()


PARTS = {
    Kind.CAMERA: 'exif:FNumber="28/10"',
    Kind.RIGHTS: 'photoshop:Credit="The Gannet Ledge Light Trust"',
    Kind.PLACE: 'photoshop:City="Gannet Ledge"',
    Kind.TIME: 'xmp:CreateDate="2025-06-01"',
    Kind.REST: 'xmp:Label="seen"',
}


@given(order=st.permutations(list(PARTS)), keep=st.frozensets(st.sampled_from(list(Kind))))
def test_every_description_of_a_packet_is_gone_through(order: list[Kind], keep: frozenset[Kind]) -> None:
    kept = xmp.kept(packet_of(*(PARTS[kind] for kind in order)), keep)
    for kind, part in PARTS.items():
        assert (part.split(":")[1].encode() in kept) == (kind in keep)
    assert bool(kept) == bool(keep)


def gif_with(*extensions: bytes) -> bytes:
    out = io.BytesIO()
    Image.fromarray((np.arange(40 * 60) % 251).reshape(40, 60).astype(np.uint8)).save(out, "GIF")
    plain = out.getvalue()
    at = 13 + (3 << (plain[10] & 7) + 1)
    return plain[:at] + b"".join(extensions) + plain[at:]


XMP_IN_GIF = b"\x21\xff\x0bXMP DataXMP" + XMP + b"\x01" + bytes(range(255, -1, -1)) + b"\x00"
COMMENT = b"\x21\xfe\x09lamp room\x00"


def xmp_in(gif: bytes) -> bytes | None:
    marker = b"\x21\xff\x0bXMP DataXMP"
    if marker not in gif:
        return None
    start = gif.index(marker) + len(marker)
    return gif[start : gif.index(b"\x01\xff\xfe\xfd", start)]


def test_xmp_in_a_gif_comes_through_byte_for_byte() -> None:
    source = gif_with(XMP_IN_GIF, COMMENT)
    treated = data_of(treat(source, Recipe(metadata=EVERYTHING, copies=frozenset())).main)
    assert treated is not None
    assert xmp_in(treated) == XMP
    assert b"lamp room" in treated
    with Image.open(io.BytesIO(treated)) as image:
        image.load()
        assert image.info["comment"] == b"lamp room"


def test_a_gif_keeps_what_the_recipe_keeps() -> None:
    source = gif_with(XMP_IN_GIF, COMMENT)
    rights = data_of(treat(source, Recipe(metadata=frozenset({Kind.RIGHTS}), copies=frozenset())).main)
    assert rights is not None
    assert b"The Trust" in (xmp_in(rights) or b"")
    assert b"Gannet Ledge" not in rights
    assert b"lamp room" not in rights
    bare = data_of(treat(source, Recipe(metadata=NOTHING, copies=frozenset())).main)
    assert bare is not None
    assert xmp_in(bare) is None
    assert identify(bare).format == "gif"


def test_without_a_word_only_the_rights_stay() -> None:
    out = io.BytesIO()
    block = b"Exif\0\0" + exif.build(tags())
    rgb = np.random.default_rng(1).integers(0, 255, (80, 120, 3)).astype(np.uint8)
    Image.fromarray(rgb).save(out, "JPEG", quality=98, exif=block)
    treated = data_of(treat(out.getvalue(), Recipe(copies=frozenset())).main)
    assert treated is not None
    with Image.open(io.BytesIO(treated)) as image:
        found = image.getexif()
        assert 0x8298 in found
        assert not found.get_ifd(0x8825)


WORDS = b"""<x:xmpmeta xmlns:x="adobe:ns:meta/"><rdf:RDF
 xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#"><rdf:Description
 xmlns:dc="http://purl.org/dc/elements/1.1/" xmlns:photoshop="http://ns.adobe.com/photoshop/1.0/"
 xmlns:core="http://iptc.org/std/Iptc4xmpCore/1.0/xmlns/" photoshop:Headline="Light at last">
 <core:AltTextAccessibility><rdf:Alt><rdf:li xml:lang="de">Die Linse</rdf:li>
 <rdf:li xml:lang="x-default">The lens</rdf:li></rdf:Alt></core:AltTextAccessibility>
 <dc:description>OLYMPUS DIGITAL CAMERA</dc:description></rdf:Description></rdf:RDF></x:xmpmeta>"""


def iptc_block(*datasets: tuple[int, bytes]) -> bytes:
    body = b"".join(
        b"\x1c\x02" + bytes([number]) + struct.pack(">H", len(text)) + text for number, text in datasets
    )
    return b"8BIM\x04\x04\0\0" + struct.pack(">I", len(body)) + body


def in_jpeg(*segments: tuple[int, bytes]) -> bytes:
    parts = [b"\xff" + bytes([marker]) + struct.pack(">H", len(body) + 2) + body for marker, body in segments]
    return b"\xff\xd8" + b"".join(parts) + b"\xff\xda"


def in_png(packet: bytes) -> bytes:
    body = b"XML:com.adobe.xmp\0\0\0\0\0" + packet
    return b"\x89PNG\r\n\x1a\n" + struct.pack(">I", len(body)) + b"iTXt" + body + bytes(4)


def in_webp(packet: bytes) -> bytes:
    return b"RIFF\0\0\0\0WEBP" + b"XMP " + struct.pack("<I", len(packet)) + packet


def test_words_are_found_wherever_a_format_keeps_them() -> None:
    words = [
        ("xmp-alternative", "The lens"),
        ("xmp-alternative", "Die Linse"),
        ("xmp-headline", "Light at last"),
    ]
    xmp_segment = (0xE1, b"http://ns.adobe.com/xap/1.0/\0" + WORDS)
    for data in (in_jpeg(xmp_segment), in_png(WORDS), in_webp(WORDS)):
        assert embedded_texts(data) == words, "the default first; what a camera wrote says nothing"
    block = iptc_block((120, "Die Brücke".encode("cp1252")), (105, "Später".encode()), (92, b"East rock"))
    found = embedded_texts(in_jpeg((0xED, iptc.PREFIX + block), xmp_segment))
    described = b"Exif\0\0" + exif.build(tags())
    assert embedded_texts(in_jpeg((0xE1, described))) == [("exif-caption", "The lamp")]
    assert found == [
        ("iptc-caption", "Die Brücke"),
        ("iptc-headline", "Später"),
        ("iptc-place", "East rock"),
        *words,
    ]


@given(st.binary(max_size=300), st.sampled_from([b"\xff\xd8\xff\xe1", b"\x89PNG\r\n\x1a\n", b"RIFF1234WEBP"]))
def test_damaged_words_say_nothing_or_something_short(data: bytes, start: bytes) -> None:
    for source, text in embedded_texts(start + data):
        assert source.partition("-")[0] in ("exif", "iptc", "xmp")
        assert 0 < len(text) <= 2_000


def test_words_cost_as_much_as_they_are_long() -> None:
    bomb = b'<!DOCTYPE x [<!ENTITY a "aaaa">]><x>&a;</x>'
    assert embedded_texts(in_webp(bomb)) == []
    many = iptc_block(*((120, b"caption %d" % number) for number in range(500)))
    assert len(embedded_texts(in_jpeg((0xED, iptc.PREFIX + many)))) == 40
    long = iptc_block((120, b"x" * 30_000))
    assert embedded_texts(in_jpeg((0xED, iptc.PREFIX + long))) == [("iptc-caption", "x" * 2_000)]
