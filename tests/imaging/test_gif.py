"""Our own GIF: LZW, composition, exact reductions, damage."""

import io
import resource
import struct

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image, ImageDraw, ImageSequence

from plumcrate.imaging import ImagingError, Recipe, treat
from plumcrate.imaging.gif import GifError, lzw, read_gif, recompress
from plumcrate.imaging.gif.extents import extents
from plumcrate.imaging.gif.recompress import same_animation
from plumcrate.imaging.pixels import decode
from plumcrate.imaging.preview import preview
from plumcrate.imaging.recipe import Limits
from plumcrate.imaging.sample import measure


@given(
    width=st.integers(2, 8),
    seed=st.integers(0, 1000),
    size=st.one_of(st.integers(1, 300), st.integers(20_000, 60_000)),
    run=st.integers(1, 40),
)
def test_lzw_comes_back(width: int, seed: int, size: int, run: int) -> None:
    rng = np.random.default_rng(seed)
    indexes = np.repeat(rng.integers(0, 1 << width, size // run + 1, dtype=np.uint8), run)[:size]
    assert np.array_equal(lzw.decode(lzw.encode(indexes, width), width, size), indexes)


def drawn(kind: str) -> list[Image.Image]:
    frames = []
    rng = np.random.default_rng(3)
    for number in range(8):
        ground = (0, 0, 0, 0) if kind == "clearing" else (16, 60, 90, 255)
        image = Image.new("RGBA", (120, 80), ground)
        pen = ImageDraw.Draw(image)
        pen.ellipse((8 + number * 9, 20, 40 + number * 9, 52), fill=(250, 200, 40, 255))
        pen.text((6, 60), f"flash {number}", fill=(255, 255, 255, 255))
        if kind == "noise":
            noise = rng.integers(0, 256, (80, 120, 3), dtype=np.uint8)
            image = Image.fromarray(np.dstack([noise, np.full((80, 120), 255, np.uint8)]))
        frames.append(image)
    return frames


def gif(kind: str, **options: object) -> bytes:
    frames = drawn(kind)
    out = io.BytesIO()
    if kind == "still":
        frames[0].save(out, "GIF", **options)
    else:
        more = {"disposal": 2} if kind == "clearing" else {}
        durations = [40 + 20 * number for number in range(len(frames))]
        frames[0].save(
            out,
            "GIF",
            save_all=True,
            append_images=frames[1:],
            duration=durations,
            loop=3,
            optimize=False,
            **more,
            **options,
        )
    return out.getvalue()


def shown(data: bytes) -> list[np.ndarray]:
    with Image.open(io.BytesIO(data)) as image:
        return [np.asarray(frame.convert("RGBA")).copy() for frame in ImageSequence.Iterator(image)]


def alike(first: np.ndarray, second: np.ndarray) -> bool:
    clear = (first[..., 3] == 0) & (second[..., 3] == 0)
    return bool(((first == second).all(axis=2) | clear).all())


@pytest.mark.parametrize("kind", ["moving", "clearing", "noise", "still"])
def test_frames_show_the_same_to_every_decoder(kind: str) -> None:
    data = gif(kind)
    ours = list(read_gif(data, 10**7).composed())
    assert all(alike(one, other) for one, other in zip(ours, shown(data), strict=True))
    smaller = recompress(data, 10**7)
    assert len(smaller) < len(data)
    assert all(alike(one, other) for one, other in zip(shown(smaller), shown(data), strict=True))
    assert same_animation(read_gif(data, 10**7), read_gif(smaller, 10**7))
    with Image.open(io.BytesIO(data)) as before, Image.open(io.BytesIO(smaller)) as after:
        assert before.info.get("loop") == after.info.get("loop")
        assert before.info.get("duration") == after.info.get("duration")
    if kind in ("moving", "clearing"):
        assert len(smaller) < 0.6 * len(data), "what does not change is not drawn again"


def test_interlaced_and_commented() -> None:
    data = gif("still", interlace=True, comment=b"Gannet Ledge")
    smaller = recompress(data, 10**6)
    assert alike(shown(data)[0], shown(smaller)[0])
    assert read_gif(smaller, 10**6).comments == [b"Gannet Ledge"]


@given(
    kind=st.sampled_from(["moving", "clearing", "still"]),
    edits=st.lists(st.tuples(st.integers(0, 1 << 30), st.integers(0, 255)), min_size=1, max_size=6),
    cut=st.integers(0, 40),
)
def test_mutated_files_are_read_or_refused(kind: str, edits: list[tuple[int, int]], cut: int) -> None:
    data = bytearray(SOURCES[kind])
    for place, value in edits:
        data[6 + place % (len(data) - 6)] = value
    mutated = bytes(data[: len(data) - cut])
    try:
        before = read_gif(mutated, 10**6)
        if before.width * before.height > 10**6:
            return
        smaller = recompress(mutated, 10**6)
    except GifError:
        return
    assert same_animation(before, read_gif(smaller, 10**6))


SOURCES = {kind: gif(kind) for kind in ("moving", "clearing", "still")}


def vast(left: int, top: int, across: int, down: int, frames: int = 1, screen: int = 10) -> bytes:
    """A GIF of few bytes whose frames are said to be somewhere far away."""
    frame = b"\x2c" + struct.pack("<HHHHB", left, top, across, down, 0) + b"\x02\x02\x4c\x01\x00"
    return struct.pack("<6sHHBBB6s", b"GIF89a", screen, screen, 0x80, 0, 0, bytes(6)) + frame * frames + b";"


@pytest.mark.parametrize(
    "data",
    [
        vast(65_535, 65_535, 65_535, 65_535),  # one frame in a corner: 17 gigapixels
        vast(65_535, 65_535, 1, 1),
        vast(0, 0, 100, 100, frames=30_000, screen=100),  # each of few pixels
        vast(30_000, 9_000, 5, 5, frames=30),
        vast(0, 0, 60_000, 60_000, screen=1),
    ],
)
def test_frames_beyond_all_limits_are_refused_by_the_header(data: bytes) -> None:
    """368 bytes once took 18 GB: decoders make the screen as large as its frames reach."""
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    for act in (
        lambda: treat(data, Recipe()),
        lambda: preview(data, 200, Limits()),
        lambda: decode(data),
        lambda: measure(data, Recipe(), Limits()),
    ):
        with pytest.raises(ImagingError):
            act()
    assert resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before < 300_000


def test_a_frame_that_reaches_a_little_beyond_its_screen_is_still_read() -> None:
    found = extents(vast(8, 8, 4, 4, frames=3))
    assert (found.width, found.height, found.pixels) == (12, 12, 432)


@given(st.binary(max_size=300))
def test_extents_of_nonsense_end(tail: bytes) -> None:
    assert extents(b"GIF89a" + tail).pixels >= 0
