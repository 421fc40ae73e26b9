"""Pictures that follow a JPEG in its file, such as a gain map: kept whole with their index, or gone with all
that tells of them."""

import io
import struct

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from plumcrate.demo.painter.scenes import SCENES
from plumcrate.imaging import Chosen, Level, Recipe, treat
from plumcrate.imaging.jpeg import JpegError, recompress
from plumcrate.imaging.kinds import EVERYTHING, Kind
from plumcrate.imaging.outcome import Refused

XMP = (
    b'http://ns.adobe.com/xap/1.0/\0<x:xmpmeta xmlns:x="adobe:ns:meta/"><rdf:RDF '
    b'xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#"><rdf:Description '
    b'xmlns:hdrgm="http://ns.adobe.com/hdr-gain-map/1.0/" xmlns:dc="http://purl.org/dc/elements/1.1/" '
    b'hdrgm:Version="1.0"><dc:creator><rdf:Seq><rdf:li>A keeper</rdf:li></rdf:Seq></dc:creator>'
    b"</rdf:Description></rdf:RDF></x:xmpmeta>"
)


def segment(marker: int, body: bytes) -> bytes:
    return bytes((0xFF, marker)) + (len(body) + 2).to_bytes(2, "big") + body


def index(order: str, sizes: list[int], offsets: list[int]) -> bytes:
    """An index of pictures by CIPA DC-007: a directory of three, the entries behind it."""
    head = {"<": b"II*\0", ">": b"MM\0*"}[order] + struct.pack(f"{order}I", 8)
    entries = b"".join(
        struct.pack(f"{order}IIIHH", 0x030000, size, offset, 0, 0)
        for size, offset in zip(sizes, offsets, strict=True)
    )
    fields = struct.pack(
        f"{order}HHHI4sHHIIHHIII",
        3,
        *(0xB000, 7, 4, b"0100"),
        *(0xB001, 4, 1, len(sizes)),
        *(0xB002, 7, len(entries), 8 + 2 + 36 + 4),
        0,
    )
    return b"MPF\0" + head + fields + entries


def painted() -> tuple[bytes, bytes]:
    """A photograph and its gain map, as JPEGs."""
    rgb = (SCENES["headland"](np.random.default_rng(5), 480, 320, 1).clip(0, 1) * 255).astype(np.uint8)
    files = []
    for image in (Image.fromarray(rgb), Image.fromarray(rgb[::4, ::4, 1])):
        out = io.BytesIO()
        image.save(out, "JPEG", quality=92)
        files.append(out.getvalue())
    return files[0], files[1]


def with_gain_map(order: str = "<", beside: int = 0) -> tuple[bytes, bytes]:
    """A file as telephones write it, and the gain map in it; ``beside``: bytes by which its index is off."""
    picture, gain_map = painted()
    empty = segment(0xE2, index(order, [0, 0], [0, 0]))
    before = picture[:2] + segment(0xE1, XMP) + segment(0xE2, b"urn:iso:std:iso:ts:21496:-1\0\0\0\0\0")
    length = len(before) + len(empty) + len(picture) - 2
    counted_from = len(before) + 8
    entries = index(order, [length, len(gain_map)], [0, length - counted_from + beside])
    return before + segment(0xE2, entries) + picture[2:] + gain_map, gain_map


SOUND = with_gain_map()


def found(data: bytes) -> bytes:
    """What the index of a file finds as its second picture, by a reader that is not ours."""
    with Image.open(io.BytesIO(data)) as image:
        entries = image._getmp()[0xB002]  # type: ignore[attr-defined]
        at = image.info["mpoffset"] + entries[1]["DataOffset"]
        assert entries[0]["Size"] == at, "the first picture ends where the second begins"
        return data[at : at + entries[1]["Size"]]


@pytest.mark.parametrize("order", ["<", ">"])
@pytest.mark.parametrize("keep", [EVERYTHING, frozenset({Kind.RIGHTS}), frozenset()])
def test_exact_keeps_the_gain_map_and_its_index_finds_it(order: str, keep: frozenset[Kind]) -> None:
    data, gain_map = with_gain_map(order)
    assert found(data) == gain_map, "the sample is sound"
    main = treat(data, Recipe(Level.EXACT, metadata=keep, copies=frozenset())).main
    assert isinstance(main, Chosen)
    assert main.size < len(data)
    assert found(main.data) == gain_map
    assert b"urn:iso:std:iso:ts:21496:-1" in main.data
    assert b"hdr-gain-map" in main.data
    assert (b"A keeper" in main.data) is (Kind.RIGHTS in keep)


def test_exact_copies_that_cannot_hold_it_are_not_made() -> None:
    data, _ = with_gain_map()
    copies = treat(data, Recipe(Level.EXACT)).of("copy")
    assert copies
    assert all(isinstance(copy, Refused) and copy.verdict == "not-possible" for copy in copies)


@pytest.mark.parametrize("keep", [EVERYTHING, frozenset({Kind.RIGHTS}), frozenset({Kind.REST})])
def test_a_lossy_result_is_without_it_and_all_that_tells_of_it_and_says_so(keep: frozenset[Kind]) -> None:
    data, gain_map = with_gain_map()
    main = treat(data, Recipe(Level.LEAN, metadata=keep, copies=frozenset())).main
    assert isinstance(main, Chosen)
    assert main.how.endswith("without its gain map for HDR screens")
    assert gain_map not in main.data
    for told in (b"MPF", b"21496", b"hdr-gain-map"):
        assert told not in main.data
    assert (b"A keeper" in main.data) is (Kind.RIGHTS in keep)
    with Image.open(io.BytesIO(main.data)) as image:
        assert image.format == "JPEG"


def test_an_index_that_points_beside_what_follows_leaves_the_file_as_it_is() -> None:
    data, _ = with_gain_map(beside=5_000)
    with pytest.raises(JpegError, match="beside"):
        recompress(data, EVERYTHING)
    assert isinstance(treat(data, Recipe(Level.EXACT, copies=frozenset())).main, Refused)


@pytest.mark.parametrize("cut", [9, 20, 40, 60, 80])
def test_an_index_that_ends_early_or_counts_too_much_is_refused_in_words(cut: int) -> None:
    picture, gain_map = painted()
    for body in (index("<", [1, 1], [0, 1])[:cut], index("<", [1] * 90, [0] * 90)):
        data = picture[:2] + segment(0xE2, body) + picture[2:] + gain_map
        with pytest.raises(JpegError, match="index of further pictures"):
            recompress(data, EVERYTHING)


def test_behind_the_last_picture_nothing_stays_that_was_not_to_be_kept() -> None:
    data, gain_map = with_gain_map()
    assert recompress(data + b"where it was taken", EVERYTHING).endswith(b"where it was taken")
    without = recompress(data + b"where it was taken", frozenset({Kind.RIGHTS}))
    assert without.endswith(gain_map)
    assert found(without) == gain_map


def test_a_film_behind_the_gain_map_leaves_an_exact_file_as_it_is() -> None:
    data, _ = with_gain_map()
    film = data.replace(b'hdrgm:Version="1.0"', b'x:MotionPhoto="1.0"')
    assert film != data
    with pytest.raises(JpegError, match="film"):
        recompress(film, frozenset({Kind.RIGHTS}))


def test_what_follows_without_an_index_stays_where_everything_does() -> None:
    picture, gain_map = painted()
    assert recompress(picture + gain_map, EVERYTHING).endswith(gain_map)
    assert gain_map not in recompress(picture + gain_map, frozenset({Kind.RIGHTS}))


@given(st.lists(st.tuples(st.integers(0, 85), st.integers(0, 255)), min_size=1, max_size=6))
def test_a_damaged_index_is_refused_or_changes_nothing_but_itself(damage: list[tuple[int, int]]) -> None:
    data, gain_map = SOUND
    damaged = bytearray(data)
    begins = data.index(b"MPF\0")
    for at, value in damage:
        damaged[begins + at] = value
    try:
        smaller = recompress(bytes(damaged), EVERYTHING)
    except JpegError:
        return
    assert smaller.endswith(gain_map)
    first, second = (np.asarray(Image.open(io.BytesIO(one)).convert("RGB")) for one in (data, smaller))
    assert np.array_equal(first, second)
