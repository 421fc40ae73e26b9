"""Our JPEG reader and writer: identical pixels and coefficients for every kind, no crash on any bytes."""

import contextlib
import io

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from plumcrate.demo.painter.noise import grain
from plumcrate.demo.painter.scenes import SCENES
from plumcrate.demo.world import camera_metadata
from plumcrate.imaging.jpeg import JpegError, recompress
from plumcrate.imaging.jpeg import tokens as tk
from plumcrate.imaging.jpeg.arrays import I16
from plumcrate.imaging.jpeg.decode import block_order, decode
from plumcrate.imaging.jpeg.encode import Encoder
from plumcrate.imaging.jpeg.huffman import optimal_lengths, table_from_lengths
from plumcrate.imaging.jpeg.recompress import shown
from plumcrate.imaging.jpeg.script import Scan, Sparse, best_bands, sampled
from plumcrate.imaging.jpeg.segments import Frame


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


def same_picture(frame: Frame, before: I16, after: I16) -> bool:
    """Whether all coefficients of blocks that hold picture are the same."""
    return all(np.array_equal(shown(before, each), shown(after, each)) for each in frame.components)


@pytest.mark.parametrize("name", KINDS)
def test_recompression_changes_no_pixel_and_no_coefficient(name: str) -> None:
    source = KINDS[name]
    smaller = recompress(source)
    assert len(smaller) <= len(source)
    assert np.array_equal(pixels(smaller), pixels(source))
    frame, before, _ = decode(source)
    again, after, _ = decode(smaller)
    assert same_picture(frame, before, after)
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
        frame, before, _ = decode(mutated)
        assert same_picture(frame, before, decode(smaller)[1])


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


def written_bits(sparse: Sparse, scan: Scan) -> int:
    """What a scan costs, from the very symbols that are written: header, table, codes and extra bits."""
    kind = tk.ac_refine if scan.high else tk.ac_first
    written = np.zeros(sparse.values.size * 2 + sparse.starts.size * 70, np.uint32)
    arrays = sparse.starts, sparse.places, sparse.values
    count = kind(*arrays, scan.start, scan.end, scan.low, written)
    histogram, lengths = np.zeros(256, np.int64), np.zeros(256, np.int32)
    extra = tk.histogram(written, count, np.zeros(written.size, np.uint8), -1, histogram)
    optimal_lengths(histogram, lengths)
    return int((histogram * lengths).sum()) + extra + 8 * (31 + int((lengths > 0).sum()))


def band(sparse: Sparse, start: int, end: int, low: int) -> int:
    refinements = [Scan((0,), start, end, bit + 1, bit) for bit in range(low)]
    return sum(written_bits(sparse, scan) for scan in (Scan((0,), start, end, 0, low), *refinements))


@given(st.integers(0, 2**32), st.integers(1, 60), st.sampled_from([0.02, 0.15, 0.6]), st.integers(0, 9))
def test_scripts_cost_what_they_are_taken_to_cost_and_no_other_cut_is_cheaper(
    seed: int, blocks: int, density: float, bits: int
) -> None:
    random = np.random.default_rng(seed)
    magnitudes = random.geometric(0.5, (blocks, 64)) << random.integers(0, bits + 1, (blocks, 64))
    levels = (
        magnitudes * random.choice([-1, 1], (blocks, 64)) * (random.random((blocks, 64)) < density)
    ).clip(-1023, 1023)
    sparse = sparse_of(levels.astype(np.int16))
    script = best_bands(0, sparse, 1.0)
    first = [scan for scan in script if not scan.high]
    assert [scan.start for scan in first] == [1, *(scan.end + 1 for scan in first[:-1])], "no gap, no overlap"
    assert first[-1].end == 63
    for scan in first:
        refined = [one for one in script if one.high and one.start == scan.start]
        assert [(one.high, one.low) for one in refined] == [
            (bit + 1, bit) for bit in reversed(range(scan.low))
        ]
        assert all(one.end == scan.end for one in refined)
    cost = sum(written_bits(sparse, scan) for scan in script)
    for low in range(4):
        assert cost <= band(sparse, 1, 63, low)
        for cut in (2, 3, 6, 10, 21):
            for other in range(4):
                assert cost <= band(sparse, 1, cut - 1, low) + band(sparse, cut, 63, other)


def sparse_of(levels: I16) -> Sparse:
    starts = np.empty(levels.shape[0] + 1, np.int32)
    places, values = np.empty(levels.size, np.uint8), np.empty(levels.size, np.int16)
    count = tk.gather(levels, np.arange(levels.shape[0], dtype=np.int32), starts, places, values)
    return Sparse(starts, places[:count], values[:count])


def test_a_large_picture_is_judged_by_blocks_from_everywhere_in_it() -> None:
    order = np.arange(90_000, dtype=np.int32)
    chosen, scale = sampled(order)
    assert chosen.size * scale == pytest.approx(order.size)
    assert chosen.size < 4000
    assert np.histogram(chosen, bins=16, range=(0, order.size))[0].all(), "of sixteen parts none is left out"
    few, one = sampled(order[:3000])
    assert few.size == 3000
    assert one == 1.0


def test_luma_and_chroma_have_their_dc_in_scans_of_their_own() -> None:
    frame, coefficients, _ = decode(photo("RGB", 700, 500, quality=90))
    data = Encoder(frame, coefficients).encode()
    again, same, _ = decode(data)
    assert same_picture(frame, coefficients, same)
    headers = [data[at + 5 : at + 5 + 2 * data[at + 4]] for at in scans(data)]
    assert [header[::2] for header in headers[:2]] == [b"\x01", b"\x02\x03"]
    assert headers[1][1] != headers[1][3], "each chroma has a table of its own"
    # What scans of luma alone leave out is no picture.
    luma = again.components[0]
    hidden = set(range(luma.rows * luma.stride)) - set(block_order(again, [0]).tolist())
    assert not same[sorted(hidden)].any()


def scans(data: bytes) -> list[int]:
    """Where scans begin; within their data no marker can be mistaken for one."""
    return [at for at in range(len(data) - 1) if data[at : at + 2] == b"\xff\xda"]
