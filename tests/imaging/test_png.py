"""Our own PNG: every colour type and depth, exact forms, damage, and DEFLATE."""

import io
import struct
import zlib

import deflate as library
import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from PIL import Image

from plumcrate.demo.painter.diagrams import LIGHT, diagram
from plumcrate.imaging import Effort
from plumcrate.imaging.png import PngError, deflate, read_png, recompress
from plumcrate.imaging.png.chunks import CHANNELS, SIGNATURE, Chunk, Header
from plumcrate.imaging.png.deflate import blocks
from plumcrate.imaging.png.deflate import symbols as symbol
from plumcrate.imaging.png.palette import Histogram, apply_palette, to_space
from plumcrate.imaging.png.picture import Picture, same_pixels
from plumcrate.imaging.png.reduce import _filled
from plumcrate.imaging.png.rows import _unfilter, filtered, passes, rows_of

KINDS = [
    (colour, depth)
    for colour, depths in {0: (1, 2, 4, 8, 16), 2: (8, 16), 3: (1, 2, 4, 8), 4: (8, 16), 6: (8, 16)}.items()
    for depth in depths
]
PALETTE = np.random.default_rng(0).integers(0, 256, (256, 3), dtype=np.uint8)


def samples(colour: int, depth: int, width: int, height: int, seed: int = 0) -> np.ndarray:
    rng = np.random.default_rng(seed)
    top = 1 << depth
    steps = rng.integers(0, max(2, top // 16), (height, width, CHANNELS[colour]))
    return (np.cumsum(steps, axis=1) % top).astype(np.uint16 if depth == 16 else np.uint8)


def written(values: np.ndarray, header: Header, *chunks: Chunk) -> bytes:
    """A PNG by the book, interlaced or not, each pass filtered in another way."""
    raw = b""
    for number, (x, y, across, down) in enumerate(passes(header)):
        part = values[y::down, x::across]
        flat = Header(part.shape[1], part.shape[0], header.depth, header.colour)
        raw += filtered(rows_of(part, flat), header.step, number % 5).tobytes()
    every = [header.chunk(), *chunks, Chunk(b"IDAT", zlib.compress(raw)), Chunk(b"IEND", b"")]
    return SIGNATURE + b"".join(chunk.encoded() for chunk in every)


FEW = Chunk(b"PLTE", b"\0" * 9)


def example(colour: int, depth: int, *, interlaced: bool = False, width: int = 37, height: int = 23) -> bytes:
    header = Header(width, height, depth, colour, interlaced)
    chunks = [Chunk(b"PLTE", PALETTE[: 1 << depth].tobytes())] if colour == 3 else []
    return written(samples(colour, depth, width, height), header, *chunks)


@pytest.mark.parametrize("interlaced", [False, True])
@pytest.mark.parametrize(("colour", "depth"), KINDS)
def test_every_kind_is_read_as_written_and_recompressed_exactly(
    colour: int, depth: int, interlaced: bool
) -> None:
    data = example(colour, depth, interlaced=interlaced)
    picture = read_png(data, 10**6).picture
    assert np.array_equal(picture.samples, samples(colour, depth, 37, 23))
    if depth <= 8:
        with Image.open(io.BytesIO(data)) as image:
            assert np.array_equal(picture.rgba(), np.asarray(image.convert("RGBA")))
    smaller = recompress(data, Effort.NORMAL, 10**6)
    assert len(smaller) <= len(data)
    assert same_pixels(picture, read_png(smaller, 10**6).picture)
    assert not read_png(smaller, 10**6).picture.header.interlaced or smaller is data
    with Image.open(io.BytesIO(smaller)) as image:
        image.load()


def png_of(rgba: np.ndarray, **options: object) -> bytes:
    out = io.BytesIO()
    Image.fromarray(rgba).save(out, "PNG", compress_level=1, **options)
    return out.getvalue()


def form_of(rgba: np.ndarray, **options: object) -> Header:
    return read_png(recompress(png_of(rgba, **options), Effort.NORMAL, 10**6), 10**6).picture.header


def test_what_is_not_needed_is_left_out() -> None:
    rng = np.random.default_rng(1)
    grey = np.repeat(rng.integers(0, 256, (40, 40, 1), dtype=np.uint8), 4, axis=2)
    grey[..., 3] = 255
    assert (form_of(grey).colour, form_of(grey).depth) == (0, 8)
    two = np.where(rng.random((64, 64, 1)) > 0.5, np.uint8(255), np.uint8(0)).repeat(4, axis=2)
    two[..., 3] = 255
    assert form_of(two).depth == 1
    few = PALETTE[rng.integers(0, 14, (64, 64))]
    assert (form_of(few).colour, form_of(few).depth) == (3, 4)
    noise = rng.integers(0, 256, (40, 40, 3), dtype=np.uint8)
    assert form_of(np.dstack([noise, np.full((40, 40), 255, np.uint8)])).colour == 2
    holes = np.dstack([noise, np.where(rng.random((40, 40)) > 0.3, 255, 0).astype(np.uint8)])
    assert form_of(holes).colour == 2, "one colour stands for transparency"


def test_a_profile_for_colour_does_not_end_up_on_grey() -> None:
    from PIL import ImageCms

    profile = ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes()
    grey = np.random.default_rng(1).integers(0, 256, (60, 60, 1), dtype=np.uint8).repeat(3, axis=2)
    assert form_of(grey).colour == 0
    assert form_of(grey, icc_profile=profile).colour in (2, 3), "a palette is of colours"


def test_sixteen_bits_stay_unless_they_say_nothing() -> None:
    deep = samples(2, 16, 30, 30)
    data = written(deep, Header(30, 30, 16, 2))
    assert read_png(recompress(data, Effort.NORMAL, 10**6), 10**6).picture.header.depth == 16
    shallow = written((deep >> 8) * 257, Header(30, 30, 16, 2))
    smaller = read_png(recompress(shallow, Effort.NORMAL, 10**6), 10**6).picture
    assert smaller.header.depth == 8
    assert same_pixels(read_png(shallow, 10**6).picture, smaller)


def test_hidden_colour_is_cleared_only_when_allowed() -> None:
    rng = np.random.default_rng(1)
    rgba = rng.integers(0, 256, (50, 50, 4), dtype=np.uint8)
    rgba[:25, :, 3] = 0
    data = png_of(rgba)
    cleared = recompress(data, Effort.NORMAL, 10**6)
    kept = recompress(data, Effort.NORMAL, 10**6, clear_hidden=False)
    assert len(cleared) < 0.8 * len(kept)
    before = read_png(data, 10**6).picture
    assert same_pixels(before, read_png(kept, 10**6).picture, hidden_matters=True)
    assert same_pixels(before, read_png(cleared, 10**6).picture)
    assert not same_pixels(before, read_png(cleared, 10**6).picture, hidden_matters=True)


def animated(loops: int = 3) -> bytes:
    frames = [Image.fromarray(PALETTE[(samples(0, 8, 40, 30, seed=n)[..., 0])]) for n in range(4)]
    out = io.BytesIO()
    frames[0].save(
        out, "PNG", save_all=True, append_images=frames[1:], duration=[40, 80, 120, 200], loop=loops
    )
    return out.getvalue()


def test_animations_keep_frames_timing_and_loops() -> None:
    data = animated()
    smaller = recompress(data, Effort.NORMAL, 10**6)
    assert len(smaller) < len(data)
    with Image.open(io.BytesIO(data)) as before, Image.open(io.BytesIO(smaller)) as after:
        assert (after.n_frames, after.info["loop"]) == (before.n_frames, before.info["loop"])
        for number in range(4):
            before.seek(number)
            after.seek(number)
            assert before.info["duration"] == after.info["duration"]
            assert np.array_equal(np.asarray(before.convert("RGBA")), np.asarray(after.convert("RGBA")))


@pytest.mark.parametrize(
    ("damage", "words"),
    [
        (lambda d: d[:60], "ends within"),
        (lambda d: d[:-12], "ends before its end"),
        (lambda d: d[:50] + bytes([d[50] ^ 1]) + d[51:], "checksum"),
        (lambda d: written(samples(2, 8, 37, 23)[:5], Header(37, 23, 8, 2)), "end too early"),
        (lambda d: d.replace(d[8:33], Chunk(b"IHDR", d[16:24] + b"\3\2\0\0\0").encoded()), "makes no sense"),
        (lambda d: written(samples(3, 8, 37, 23), Header(37, 23, 8, 3), FEW), "palette does not have"),
        (lambda d: written(samples(3, 8, 37, 23), Header(37, 23, 8, 3)), "no proper palette"),
        (lambda d: written(samples(2, 8, 37, 23), Header(37, 23, 8, 2), Chunk(b"WHAT", b"")), "critical"),
    ],
)
def test_damage_is_named(damage: object, words: str) -> None:
    with pytest.raises(PngError, match=words):
        read_png(damage(example(2, 8)), 10**6)  # type: ignore[operator]


def test_a_bomb_is_not_inflated() -> None:
    header = Header(10, 10, 8, 2)
    bomb = [header.chunk(), Chunk(b"IDAT", zlib.compress(b"\0" * 50_000_000)), Chunk(b"IEND", b"")]
    picture = read_png(SIGNATURE + b"".join(chunk.encoded() for chunk in bomb), 10**6).picture
    assert picture.samples.shape == (10, 10, 3)
    with pytest.raises(PngError, match="more pixels"):
        read_png(example(2, 8), 100)


@settings(suppress_health_check=[HealthCheck.too_slow])
@given(
    kind=st.sampled_from(KINDS),
    edits=st.lists(st.tuples(st.integers(0, 1 << 30), st.integers(0, 255)), min_size=1, max_size=8),
    mend=st.booleans(),
)
def test_mutated_files_are_read_or_refused(
    kind: tuple[int, int], edits: list[tuple[int, int]], mend: bool
) -> None:
    data = bytearray(example(*kind))
    for place, value in edits:
        data[8 + place % (len(data) - 8)] = value
    if mend:  # checksums made right again, so that the damage gets further in
        at = 8
        while at + 12 <= len(data):
            length = struct.unpack_from(">I", data, at)[0]
            if at + 12 + length > len(data):
                break
            data[at + 8 + length : at + 12 + length] = struct.pack(
                ">I", zlib.crc32(bytes(data[at + 4 : at + 8 + length]))
            )
            at += 12 + length
    try:
        picture = read_png(bytes(data), 10**5).picture
    except PngError:
        return
    smaller = recompress(bytes(data), Effort.QUICK, 10**5)
    assert same_pixels(picture, read_png(smaller, 10**5).picture)


# -- DEFLATE ---------------------------------------------------------------------------------


@given(
    data=st.one_of(
        st.binary(max_size=3000),
        st.lists(st.sampled_from([b"ledge", b"light", b"\0" * 40, b"tide 3.2 m "]), max_size=400).map(
            b"".join
        ),
    ),
    passes=st.integers(0, 4),
)
def test_own_deflate_is_read_by_zlib(data: bytes, passes: int) -> None:
    assert zlib.decompress(deflate.compress(data, passes)) == data


@given(seed=st.integers(0, 10_000), size=st.integers(1, 3000), kinds=st.integers(1, 120))
def test_a_block_is_priced_to_the_bit(seed: int, size: int, kinds: int) -> None:
    random = np.random.default_rng(seed)
    matches = random.integers(3, 259, size) << 16 | random.integers(0, 32_768, size)
    literals = random.geometric(0.05, size) % kinds
    symbols = np.where(random.random(size) < 0.3, matches, literals).astype(np.int32)
    out = np.zeros(16 * size + 1000, np.uint8)
    tables = (symbol.LENGTH_SYMBOL, symbol.LENGTH_EXTRA, symbol.LENGTH_BASE, symbol.FAR_EXTRA)
    written = blocks.write_block(symbols, 0, size, True, *tables, symbol.FAR_BASE, blocks.ORDER, out, 0)
    fixed = out[0] >> 1 & 3 == 1
    assert written <= deflate._block_bits(symbols) if fixed else written == deflate._block_bits(symbols)


@given(st.lists(st.integers(0, 500), min_size=1, max_size=286), st.sampled_from([0.1, 0.25, 0.5]))
def test_evened_counts_have_the_same_symbols_and_nearly_the_same_sum(counts: list[int], part: float) -> None:
    before, after = np.array(counts, np.int32), np.zeros(len(counts), np.int32)
    blocks._evened(before, part, after)
    assert np.array_equal(before > 0, after > 0)
    assert abs(int(after.sum()) - int(before.sum())) <= len(counts)


def test_own_deflate_beats_the_librarys_best_on_small_drawings() -> None:
    ours = theirs = 0
    for number in range(4):
        drawing = np.asarray(diagram("bars", LIGHT, width=160 + 20 * number).convert("P"))
        data = b"".join(b"\0" + row.tobytes() for row in drawing)
        ours += len(deflate.compress(data, 15))
        theirs += len(library.zlib_compress(data, 12))
    assert ours < theirs * 0.99


def test_own_deflate_over_several_chunks_beats_zlib() -> None:
    rng = np.random.default_rng(2)
    words = [rng.integers(0, 256, rng.integers(3, 12), dtype=np.uint8).tobytes() for _ in range(300)]
    data = b"".join(words[i] for i in (rng.zipf(1.3, 400_000) % 300))[:2_300_000]
    smaller = deflate.compress(data, 1)
    assert zlib.decompress(smaller) == data
    assert len(smaller) < 0.97 * len(zlib.compress(data, 9))


# -- palettes --------------------------------------------------------------------------------


NO_PINS = np.zeros((0, 4), np.uint8)


def no_ground(rgba: np.ndarray) -> np.ndarray:
    return np.zeros(rgba.shape[:2], bool)


def test_few_colours_come_back_exactly() -> None:
    colours = np.array([[0, 0, 0, 255], [255, 255, 255, 255], [200, 30, 40, 255], [0, 0, 0, 0]], np.uint8)
    rgba = colours[np.random.default_rng(0).integers(0, 4, (50, 60))]
    indexes, palette = apply_palette(
        to_space(rgba), Histogram(rgba).palette(16, NO_PINS), 0.85, no_ground(rgba)
    )
    assert np.array_equal(palette[indexes], rgba)


def test_a_palette_is_nearer_than_pillows_and_diffusion_hides_steps() -> None:
    ramp = np.linspace(0, 255, 256).astype(np.uint8)
    plain = [np.full((128, 256), value, np.uint8) for value in (90, 255)]
    rgba = np.dstack([np.tile(ramp, (128, 1)), np.tile(ramp[::2, None], (1, 256)), *plain])
    values = to_space(rgba)

    def off(shown: np.ndarray) -> float:
        return float(((to_space(shown)[..., :3] - values[..., :3]) ** 2).mean())

    def smooth(shown: np.ndarray) -> float:
        """The error that is left when the eye takes 4 x 4 pixels together."""
        error = (to_space(shown) - values)[..., :3].reshape(32, 4, 64, 4, 3).mean(axis=(1, 3))
        return float((error**2).mean())

    palette = Histogram(rgba).palette(32, NO_PINS)
    near, diffused = (
        colours[indexes]
        for indexes, colours in (apply_palette(values, palette, s, no_ground(rgba)) for s in (0.0, 0.85))
    )
    theirs = Image.fromarray(rgba[..., :3]).quantize(
        32, method=Image.Quantize.MEDIANCUT, dither=Image.Dither.NONE
    )
    assert off(near) < 0.8 * off(np.asarray(theirs.convert("RGBA")))
    assert smooth(diffused) < 0.5 * smooth(near)


def test_a_picture_knows_its_rows() -> None:
    picture = Picture(Header(3, 1, 4, 0), np.array([[[1], [2], [15]]], np.uint8))
    assert rows_of(picture.samples, picture.header).tobytes() == b"\x12\xf0"
    assert picture.rgba()[0, :, 0].tolist() == [17, 34, 255]


def slowly_unfiltered(raw: np.ndarray, step: int) -> np.ndarray:
    """As section 9.2 to 9.4 say it, byte by byte."""
    rows, size = raw.shape[0], raw.shape[1] - 1
    out = np.zeros((rows, size), np.int64)
    for y in range(rows):
        for x in range(size):
            left = out[y, x - step] if x >= step else 0
            above = out[y - 1, x] if y else 0
            corner = out[y - 1, x - step] if y and x >= step else 0
            nearest = min(
                (abs(above - corner), 0, left),
                (abs(left - corner), 1, above),
                (abs(left + above - 2 * corner), 2, corner),
            )[2]
            added = [0, left, above, (left + above) // 2, nearest][raw[y, 0]]
            out[y, x] = (int(raw[y, 1 + x]) + int(added)) % 256
    return out.astype(np.uint8)


@given(st.integers(1, 6), st.integers(1, 30), st.sampled_from([1, 2, 3, 4, 6, 8]), st.integers(0, 2**32))
def test_filters_are_undone_as_the_standard_says(rows: int, size: int, step: int, seed: int) -> None:
    random = np.random.default_rng(seed)
    raw = random.integers(0, 256, (rows, size + 1), np.uint8)
    raw[:, 0] = random.integers(0, 5, rows)
    out = np.empty((rows, size), np.uint8)
    assert _unfilter(raw.reshape(-1), rows, size, step, out) == 0
    assert np.array_equal(out, slowly_unfiltered(raw, step))
    raw[-1, 0] = 5 + seed % 251
    assert _unfilter(raw.reshape(-1), rows, size, step, out) == 1


@given(st.integers(1, 9), st.integers(1, 9), st.booleans(), st.integers(0, 2**32))
def test_hidden_colour_is_filled_and_what_is_seen_stays(
    height: int, width: int, grey: bool, seed: int
) -> None:
    random = np.random.default_rng(seed)
    rgba = random.integers(0, 256, (height, width, 4), np.uint8)
    if grey:
        rgba[..., 1:3] = rgba[..., :1]
    rgba[..., 3] = random.choice([0, 0, 90, 255], (height, width))
    filled = _filled(rgba, grey)
    seen = rgba[..., 3] > 0
    assert np.array_equal(filled[..., 3], rgba[..., 3])
    assert np.array_equal(filled[seen], rgba[seen])
    channels = 1 if grey else 3
    for y, x in zip(*np.nonzero(~seen), strict=True):
        if (y, x) != (0, 0):
            source = filled[y, x - 1] if x else filled[y - 1, x]
            assert np.array_equal(filled[y, x, :channels], source[:channels])


def test_a_cut_out_photograph_gains_by_it_and_looks_the_same() -> None:
    y, x = np.mgrid[0:120, 0:160]
    random = np.random.default_rng(3)
    rgba = np.dstack([(y * 3 + x) % 256, (x * 5) % 256, (y + x) % 200, np.zeros_like(x)]).astype(np.uint8)
    rgba[..., :3] += random.integers(0, 9, (120, 160, 3), np.uint8)
    rgba[..., 3] = np.where((x - 80) ** 2 + (y - 60) ** 2 < 2500, 255, 0)
    out = io.BytesIO()
    Image.fromarray(rgba).save(out, "PNG")
    ours = recompress(out.getvalue(), Effort.NORMAL, 10**8)
    cleared = rgba.copy()
    cleared[rgba[..., 3] == 0] = 0
    again = io.BytesIO()
    Image.fromarray(cleared).save(again, "PNG", optimize=True)
    assert len(ours) < again.tell()
    shown = np.asarray(Image.open(io.BytesIO(ours)).convert("RGBA"))
    assert np.array_equal(shown[rgba[..., 3] > 0], rgba[rgba[..., 3] > 0])
    assert np.array_equal(shown[..., 3], rgba[..., 3])
    kept = recompress(out.getvalue(), Effort.NORMAL, 10**8, clear_hidden=False)
    assert np.array_equal(np.asarray(Image.open(io.BytesIO(kept)).convert("RGBA")), rgba)
