"""Our lossy JPEG: the transform, quantization against plain rounding, the files and their size."""

import io

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

from plumcrate.demo.painter.noise import grain
from plumcrate.demo.painter.scenes import SCENES
from plumcrate.imaging.jpeg import LossyEncoder
from plumcrate.imaging.jpeg.decode import decode
from plumcrate.imaging.jpeg.lossy import quantization_tables
from plumcrate.imaging.jpeg.quantize import _bits, _count, quantize
from plumcrate.imaging.jpeg.segments import metadata_for_rewriting
from plumcrate.imaging.jpeg.transform import ZIGZAG, coefficients_of, frame_for
from plumcrate.imaging.scoring.ssimulacra2 import Reference


def scene(width: int = 331, height: int = 203) -> np.ndarray:
    rng = np.random.default_rng(4)
    painted = grain(rng, SCENES["headland"](rng, width, height, 1), 0.02)
    return (painted.clip(0, 1) * 255).astype(np.uint8)


def pillow(rgb: np.ndarray, **options: object) -> bytes:
    out = io.BytesIO()
    Image.fromarray(rgb).save(out, "JPEG", **options)
    return out.getvalue()


def shown(data: bytes) -> np.ndarray:
    with Image.open(io.BytesIO(data)) as image:
        return np.asarray(image.convert("RGB"))


def test_the_zigzag_is_that_of_figure_a6() -> None:
    assert ZIGZAG[:12].tolist() == [0, 1, 8, 16, 9, 2, 3, 10, 17, 24, 32, 25]
    assert sorted(ZIGZAG.tolist()) == list(range(64))
    assert ZIGZAG[-1] == 63


@pytest.mark.parametrize("subsampled", [True, False])
def test_coefficients_agree_with_those_pillow_writes(subsampled: bool) -> None:
    rgb = scene()
    data = pillow(rgb, qtables=[[1] * 64, [1] * 64], subsampling="4:2:0" if subsampled else "4:4:4")
    theirs_frame, theirs, _ = decode(data)
    frame = frame_for(rgb.shape[1], rgb.shape[0], grey=False, subsampled=subsampled)
    ours = coefficients_of(rgb, frame)
    assert ours.shape == theirs.shape
    luma = slice(0, theirs_frame.components[0].stride * (theirs_frame.components[0].down - 1))
    assert np.abs(ours[luma] - theirs[luma]).mean() < 0.5, "both round differently, by less than a step"
    assert np.abs(ours - theirs).mean() < 1.0


@pytest.mark.parametrize("kind", ["colour", "full chroma", "grey", "wide", "tiny"])
def test_files_open_everywhere_and_score_by_step(kind: str) -> None:
    rgb = {"wide": scene(700, 120)[:5], "tiny": scene(200, 120)[:1, :1]}.get(kind, scene())
    if kind == "grey":
        rgb = np.repeat(rgb[:, :, :1], 3, axis=2)
    encoder = LossyEncoder.from_pixels(
        np.ascontiguousarray(rgb), grey=kind == "grey", subsampled=kind != "full chroma", metadata=[]
    )
    reference = Reference(np.ascontiguousarray(rgb))
    sizes, scores = [], []
    for step in (60, 80, 100):
        plain, searched = encoder.encode(step, searched=False), encoder.encode(step, searched=True)
        assert len(searched) <= len(plain)
        assert np.array_equal(shown(plain), shown(searched)), "the search changes no pixel"
        sizes.append(len(searched))
        scores.append(reference.score(shown(searched)))
    if kind != "tiny":
        assert sizes == sorted(sizes)
        assert scores == sorted(scores)
        assert scores[-1] > 80


def test_smaller_than_pillow_at_no_lower_a_score() -> None:
    rgb = scene(640, 420)
    reference = Reference(rgb)
    theirs = pillow(rgb, quality=80, progressive=True, optimize=True)
    goal = reference.score(shown(theirs))
    encoder = LossyEncoder.from_pixels(rgb, grey=False, subsampled=True, metadata=[])
    ours = next(
        data
        for step in range(60, 118)
        if reference.score(shown(data := encoder.encode(step, searched=True))) >= goal
    )
    assert len(ours) < 0.95 * len(theirs)


def test_a_source_is_requantized_from_its_own_coefficients_where_sampling_fits() -> None:
    rgb = scene()
    source = pillow(rgb, quality=95, subsampling="4:2:0")
    frame, coefficients, _ = decode(source)
    made = LossyEncoder.from_coefficients(frame, coefficients, subsampled=True, metadata=[])
    assert made is not None
    assert LossyEncoder.from_coefficients(frame, coefficients, subsampled=False, metadata=[]) is None
    reference = Reference(shown(source))
    direct = reference.score(shown(made.encode(92, searched=False)))
    pixels = LossyEncoder.from_pixels(shown(source), grey=False, subsampled=True, metadata=[])
    assert direct >= reference.score(shown(pixels.encode(92, searched=False))) - 0.3


def test_rgb_and_adobe_files_keep_their_colours() -> None:
    rgb = scene()
    source = pillow(rgb, quality=95, keep_rgb=True)
    encoder = LossyEncoder.of_jpeg(source, shown(source), grey=False, subsampled=True)
    assert Reference(rgb).score(shown(encoder.encode(95, searched=False))) > 80
    assert all(segment[1] != 0xEE for segment in metadata_for_rewriting(source))


@settings(max_examples=25, deadline=None)
@given(seed=st.integers(0, 10_000), step=st.integers(50, 100), weight=st.sampled_from([0.03, 0.08, 0.14]))
def test_the_chosen_levels_never_cost_more_than_plain_rounding(seed: int, step: int, weight: float) -> None:
    rng = np.random.default_rng(seed)
    frame = frame_for(64, 64, grey=True, subsampled=False)
    frame.quantization = {0: quantization_tables(step)[0]}
    falling = 400.0 / (1 + np.arange(64)) ** rng.uniform(0.6, 1.4)
    values = (rng.laplace(size=(64, 64)) * falling).astype(np.float32)
    rounded, chosen = quantize(frame, values, 0.0), quantize(frame, values, weight)
    assert np.array_equal(rounded[:, 0], chosen[:, 0]), "DC is rounded"
    assert (np.abs(chosen) <= np.abs(rounded)).all()
    assert (np.sign(chosen) * np.sign(rounded) >= 0).all()
    counts = np.zeros(256, np.int64)
    _count(rounded, counts)
    bits = _bits(counts)

    def cost(levels: np.ndarray) -> float:
        table = frame.quantization[0].astype(np.float32)
        off = ((values / table - levels) ** 2)[:, 1:].sum()
        symbols = np.zeros(256, np.int64)
        _count(np.ascontiguousarray(levels), symbols)
        return float(off + weight * (symbols * bits).sum())

    # The second pass works with the statistics of the first, so a little slack is due.
    assert cost(chosen) <= cost(rounded) * 1.01


def test_tables_are_finer_at_higher_steps_and_within_a_byte() -> None:
    for step in (20, 60, 80, 100, 118):
        for number, table in quantization_tables(step).items():
            assert table.min() >= 1
            assert table.max() <= 255
            assert (table >= quantization_tables(step + 6)[number]).all()
