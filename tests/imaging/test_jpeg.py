"""Our JPEG reader and writer: identical pixels and coefficients for every kind, no crash on any bytes."""

import contextlib
import io

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

from plumcrate.demo.painter.noise import grain
from plumcrate.demo.painter.scenes import SCENES
from plumcrate.demo.world import camera_metadata
from plumcrate.imaging.jpeg import JpegError, recompress
from plumcrate.imaging.jpeg.decode import decode
from plumcrate.imaging.jpeg.huffman import optimal_lengths, table_from_lengths


def photo(mode: str, width: int = 203, height: int = 117, **options: object) -> bytes:
    rng = np.random.default_rng(8)
    painted = grain(rng, SCENES["headland"](rng, max(width, 200), max(height, 117), 1), 0.03)[:height, :width]
    out = io.BytesIO()
    Image.fromarray((painted.clip(0, 1) * 255).astype(np.uint8)).convert(mode).save(out, "JPEG", **options)
    return out.getvalue()


KINDS = {
    "ordinary": photo("RGB", quality=90),
    "full chroma": photo("RGB", quality=75, subsampling="4:4:4"),
    "half chroma": photo("RGB", quality=85, subsampling="4:2:2"),
    "grey": photo("L", quality=85),
    "printing colours": photo("CMYK", quality=85),
    "progressive": photo("RGB", quality=85, progressive=True),
    "restarts": photo("RGB", quality=85, restart_marker_blocks=5),
    "progressive restarts": photo("RGB", quality=85, progressive=True, restart_marker_rows=1),
    "coarse": photo("RGB", quality=3),
    "finest": photo("RGB", quality=100, subsampling="4:4:4"),
    "metadata": photo("RGB", quality=90, exif=camera_metadata(4, 6), comment=b"from the ledge"),
    "one pixel": photo("RGB", 1, 1),
    "one block": photo("L", 8, 8),
    "wide": photo("RGB", 700, 3, quality=92),
    "tables of 16 bits": photo("RGB", qtables=[[300 + i for i in range(64)]] * 2),
}


def pixels(data: bytes) -> np.ndarray:
    with Image.open(io.BytesIO(data)) as image:
        return np.asarray(image)


@pytest.mark.parametrize("name", KINDS)
def test_recompression_changes_no_pixel_and_no_coefficient(name: str) -> None:
    source = KINDS[name]
    smaller = recompress(source)
    assert len(smaller) <= len(source)
    assert np.array_equal(pixels(smaller), pixels(source))
    frame, before, _ = decode(source)
    again, after, _ = decode(smaller)
    assert np.array_equal(before, after)
    assert again.metadata == frame.metadata
    if name not in ("one pixel", "one block"):
        assert len(smaller) < len(source)
    assert recompress(smaller) == smaller, "nothing is left to gain"


def test_what_follows_the_end_is_kept() -> None:
    source = KINDS["ordinary"]
    assert recompress(source + b"a moving picture follows").endswith(b"\xff\xd9a moving picture follows")


@pytest.mark.parametrize("part", [0.2, 0.6, 0.97])
@pytest.mark.parametrize("name", ["ordinary", "progressive", "restarts"])
def test_truncated_files_are_refused(name: str, part: float) -> None:
    source = KINDS[name]
    with pytest.raises(JpegError):
        recompress(source[: int(len(source) * part)])


def test_a_missing_end_marker_alone_is_forgiven() -> None:
    source = KINDS["ordinary"]
    assert np.array_equal(pixels(recompress(source[:-2])), pixels(source))


@settings(max_examples=300, deadline=None)
@given(
    st.sampled_from(["ordinary", "progressive", "grey", "restarts", "coarse", "one block"]),
    st.lists(st.tuples(st.floats(0, 1), st.binary(min_size=1, max_size=4)), min_size=1, max_size=6),
    st.floats(0.3, 1),
)
def test_mutated_files_are_read_or_refused_and_never_changed(
    name: str, patches: list[tuple[float, bytes]], cut: float
) -> None:
    data = bytearray(KINDS[name])
    for place, patch in patches:
        at = int(place * (len(data) - len(patch)))
        data[at : at + len(patch)] = patch
    mutated = bytes(data[: max(20, int(len(data) * (1 if cut > 0.8 else cut)))])
    with contextlib.suppress(JpegError):  # any other error fails the test
        smaller = recompress(mutated)
        assert np.array_equal(decode(mutated)[1], decode(smaller)[1])


@given(st.lists(st.integers(0, 10**7), min_size=256, max_size=256).filter(any))
def test_optimal_tables_are_complete_prefix_codes_of_at_most_sixteen_bits(counts: list[int]) -> None:
    histogram = np.array(counts, np.int64)
    lengths = np.zeros(256, np.int32)
    optimal_lengths(histogram, lengths)
    assert ((lengths > 0) == (histogram > 0)).all()
    assert lengths.max() <= 16
    assert sum(2.0 ** -int(length) for length in lengths if length) < 1, "the all-ones code is free"
    table = table_from_lengths(lengths)
    assert int(table.counts.sum()) == np.count_nonzero(histogram)
