"""Our lossy JPEG: the transform, quantization against plain rounding, the files and their size."""

import io

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from plumcrate.demo.painter.noise import grain
from plumcrate.demo.painter.scenes import SCENES
from plumcrate.imaging import avif, webp
from plumcrate.imaging.jpeg import LossyEncoder, transform
from plumcrate.imaging.jpeg.decode import decode
from plumcrate.imaging.jpeg.lossy import quantization_tables
from plumcrate.imaging.jpeg.luminance import luma_shift
from plumcrate.imaging.jpeg.masking import masking
from plumcrate.imaging.jpeg.quantize import _bits, _count, quantize
from plumcrate.imaging.jpeg.segments import metadata_for_rewriting
from plumcrate.imaging.jpeg.transform import (
    ZIGZAG,
    coefficients_of,
    frame_for,
    planes_of,
    shown_rows,
    stored_chroma,
)
from plumcrate.imaging.pixels import Pixels
from plumcrate.imaging.scoring.gradient import luma_gradient
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
    ours = coefficients_of(planes_of(rgb), frame)
    assert ours.shape == theirs.shape
    luma = slice(0, theirs_frame.components[0].stride * (theirs_frame.components[0].down - 1))
    assert np.abs(ours[luma] - theirs[luma]).mean() < 0.5, "both round differently, by less than a step"
    assert np.abs(ours - theirs).mean() < 1.0


@pytest.mark.parametrize("kind", ["colour", "full chroma", "grey", "wide", "tiny"])
def test_files_open_everywhere_and_score_by_step(kind: str) -> None:
    rgb = {"wide": scene(700, 120)[:5], "tiny": scene(200, 120)[:1, :1]}.get(kind, scene())
    if kind == "grey":
        rgb = np.repeat(rgb[:, :, :1], 3, axis=2)
    encoder = LossyEncoder(np.ascontiguousarray(rgb), grey=kind == "grey", subsampled=kind != "full chroma")
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
    encoder = LossyEncoder(rgb, grey=False, subsampled=True)
    ours = next(
        data
        for step in range(60, 118)
        if reference.score(shown(data := encoder.encode(step, searched=True))) >= goal
    )
    assert len(ours) < 0.95 * len(theirs)


def test_a_source_is_requantized_from_its_own_luma_coefficients() -> None:
    rgb = scene()
    source = pillow(rgb, quality=95, subsampling="4:2:0")
    frame, coefficients, _ = decode(source)
    luma = frame.components[0]
    wanted = (coefficients * frame.quantization[0])[luma.blocks].reshape(luma.rows, luma.stride, 64)
    for subsampled in (True, False):
        made = LossyEncoder.of_jpeg(source, decode(source), shown(source), grey=False, subsampled=subsampled)
        ours = made._frame.components[0]
        values = made._values[ours.blocks].reshape(ours.rows, ours.stride, 64)
        assert np.array_equal(values[: luma.down, : luma.across], wanted[: luma.down, : luma.across])
    made = LossyEncoder.of_jpeg(source, decode(source), shown(source), grey=False, subsampled=True)
    reference = Reference(shown(source))
    direct = reference.score(shown(made.encode(92, searched=False)))
    pixels = LossyEncoder(shown(source), grey=False, subsampled=True)
    assert direct >= reference.score(shown(pixels.encode(92, searched=False))) - 0.3


def test_rgb_and_adobe_files_keep_their_colours() -> None:
    rgb = scene()
    source = pillow(rgb, quality=95, keep_rgb=True)
    encoder = LossyEncoder.of_jpeg(source, decode(source), shown(source), grey=False, subsampled=True)
    assert Reference(rgb).score(shown(encoder.encode(95, searched=False))) > 80
    assert all(segment[1] != 0xEE for segment in metadata_for_rewriting(source))


@pytest.mark.parametrize("size", [(96, 64), (97, 63), (33, 18)])
def test_chroma_is_known_as_decoders_show_it(size: tuple[int, int]) -> None:
    rgb = np.ascontiguousarray(scene()[: size[1], : size[0]])
    frame, levels, _ = decode(pillow(rgb, quality=60, subsampling="4:2:0"))
    with Image.open(io.BytesIO(pillow(rgb, quality=60, subsampling="4:2:0"))) as image:
        image.draft("YCbCr", None)
        theirs = np.asarray(image).astype(np.float32)[:, :, 1:] - 128
    whole = slice(0, frame.height)
    shape = (frame.height, frame.width)
    stored = stored_chroma(frame, levels)
    ours = np.stack([shown_rows(plane, whole, shape) for plane in stored], axis=2)
    assert np.abs(ours - theirs).max() <= 1.6, "but for rounding, twice"


def linear_light(rgb: np.ndarray) -> np.ndarray:
    values = rgb.astype(np.float64) / 255
    values = np.where(values <= 0.04045, values / 12.92, ((values + 0.055) / 1.055) ** 2.4)
    return np.asarray(values @ [0.265, 0.657, 0.078])


def test_luma_makes_up_for_the_light_that_lost_chroma_takes_away() -> None:
    rng = np.random.default_rng(2)
    rgb = rng.integers(60, 200, (40, 40, 3), dtype=np.uint8)
    planes = planes_of(rgb)
    lost = [np.zeros_like(plane) for plane in planes[1:]]
    luma = planes[0] + 128
    without, made_up = luma, luma + luma_shift(rgb, planes[0], lost)
    wanted = linear_light(rgb)
    before, after = (
        np.abs(linear_light(np.repeat(y[:, :, None], 3, axis=2)) - wanted).mean() for y in (without, made_up)
    )
    assert after < before / 20
    assert np.abs(luma_shift(rgb, planes[0], list(planes[1:]))).max() < 0.6, "nothing lost, nothing moved"


def test_texture_is_given_less_care_than_flat_ground() -> None:
    rng = np.random.default_rng(3)
    luma = np.zeros((64, 128), np.float32)
    luma[:, 64:] = rng.normal(0, 30, (64, 64))
    luma[:32, 64:72] = 0  # flat corners in a textured surrounding
    frame = frame_for(128, 64, grey=False, subsampled=True)
    factors = masking(luma, frame)
    assert factors.shape == (frame.total_blocks,)
    grid = factors[frame.components[0].blocks].reshape(8, 16)
    assert grid[:, 11:].min() > 2 * grid[:, :6].max()
    chroma = factors[frame.components[1].blocks].reshape(4, 8)
    assert np.allclose(chroma, grid.reshape(4, 2, 8, 2).mean(axis=(1, 3)))


@given(seed=st.integers(0, 10_000), step=st.integers(50, 100), weight=st.sampled_from([0.03, 0.08, 0.14]))
def test_the_chosen_levels_never_cost_more_than_plain_rounding(seed: int, step: int, weight: float) -> None:
    rng = np.random.default_rng(seed)
    table = quantization_tables(step)[0]
    falling = 400.0 / (1 + np.arange(64)) ** rng.uniform(0.6, 1.4)
    values = (rng.laplace(size=(64, 64)) * falling).astype(np.float32)
    rounded, chosen = (quantize(values, table, np.full(64, one, np.float32)) for one in (0.0, weight))
    apart = np.abs(chosen[:, 0] - values[:, 0] / table[0])
    assert apart.max() < 1, "DC is one of the two levels on either side"
    # Half-way between two levels either is plain rounding.
    exact = np.abs(values / table.astype(np.float32))
    halves = np.abs(exact % 1 - 0.5) < 1e-3
    assert (np.abs(chosen) <= np.floor(exact + 0.5) + halves)[:, 1:].all()
    assert (np.sign(chosen) * np.sign(rounded) >= 0)[:, 1:].all()
    counts = np.zeros(256, np.int64)
    _count(rounded, counts)
    bits = _bits(counts)

    def cost(levels: np.ndarray) -> float:
        off = ((values / table.astype(np.float32) - levels) ** 2)[:, 1:].sum()
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


# -- learning from the score -------------------------------------------------------------------


def refined(
    rgb: np.ndarray, step: int, *, grey: bool = False, subsampled: bool = True
) -> tuple[bytes, bytes]:
    """An encode, and one at the same step after the encoder has learnt from it."""
    encoder = LossyEncoder(rgb, grey=grey, subsampled=subsampled)
    before = encoder.encode(step, searched=False)
    encoder.refine(luma_gradient(Reference(rgb), shown(before)))
    return before, encoder.encode(step, searched=False)


@pytest.mark.parametrize("subsampled", [True, False])
@pytest.mark.parametrize("scene_name", ["headland", "swell"])
def test_an_encoder_that_knows_the_score_is_smaller_at_an_equal_one(
    scene_name: str, subsampled: bool
) -> None:
    random = np.random.default_rng(4)
    painted = grain(random, SCENES[scene_name](random, 480, 320, 1), 0.04)
    rgb = (painted.clip(0, 1) * 255).astype(np.uint8)
    reference = Reference(rgb)
    plain, learnt = [], []
    for step in (70, 78, 86, 94):
        for curve, data in zip((plain, learnt), refined(rgb, step, subsampled=subsampled), strict=True):
            curve.append((reference.score(shown(data)), np.log(len(data))))
    at = np.mean([plain[1][0], plain[2][0]])
    before, after = (np.interp(at, *zip(*sorted(curve), strict=True)) for curve in (plain, learnt))
    assert np.exp(after - before) < 0.985


def test_what_was_learnt_can_be_forgotten_and_is_the_same_each_time() -> None:
    rgb = scene()
    assert refined(rgb, 80) == refined(rgb, 80)
    encoder = LossyEncoder(rgb, grey=False, subsampled=True)
    before = encoder.encode(80, searched=False)
    encoder.refine(luma_gradient(Reference(rgb), shown(before)))
    assert encoder.encode(80, searched=False) != before
    encoder.forget()
    assert encoder.encode(80, searched=False) == before


def test_a_gradient_that_says_nothing_changes_nothing() -> None:
    rgb = scene(60, 44)
    encoder = LossyEncoder(rgb, grey=False, subsampled=True)
    before = encoder.encode(80, searched=False)
    encoder.refine(np.zeros(rgb.shape[:2], np.float32))
    assert encoder.encode(80, searched=False) == before
    LossyEncoder(rgb, grey=False, subsampled=True).refine(
        np.ones(rgb.shape[:2], np.float32)
    )  # nothing made yet


@given(st.integers(0, 2**32), st.integers(1, 70), st.integers(1, 70), st.booleans(), st.booleans())
def test_any_gradient_leaves_a_file_that_decodes(
    seed: int, width: int, height: int, grey: bool, subsampled: bool
) -> None:
    random = np.random.default_rng(seed)
    rgb = random.integers(0, 256, (height, width, 3), np.uint8)
    if grey:
        rgb[:] = rgb[..., :1]
    encoder = LossyEncoder(rgb, grey=grey, subsampled=subsampled)
    encoder.encode(70, searched=False)
    encoder.refine(
        (random.standard_normal((height, width)) * 10.0 ** random.integers(-30, 20)).astype(np.float32)
    )
    for searched in (False, True):
        assert shown(encoder.encode(70, searched=searched)).shape == rgb.shape


def test_the_searched_file_of_a_step_shows_the_same_as_the_sequential_one() -> None:
    encoder = LossyEncoder(scene(), grey=False, subsampled=True)
    for step in (60, 90, 60):
        assert np.array_equal(
            shown(encoder.encode(step, searched=False)), shown(encoder.encode(step, searched=True))
        )


@pytest.mark.parametrize("size", [(96, 64), (97, 63), (40, 31), (33, 16), (17, 5)])
@pytest.mark.parametrize("subsampled", [True, False])
def test_bands_of_rows_make_what_the_whole_makes(
    size: tuple[int, int], subsampled: bool, monkeypatch: pytest.MonkeyPatch
) -> None:
    rgb = np.ascontiguousarray(scene()[: size[1], : size[0]])
    alpha = np.tile(np.linspace(0, 255, size[0]).astype(np.uint8), (size[1], 1))
    made = []
    for rows in (16, 4096):
        monkeypatch.setattr(transform, "_BAND", rows)
        encoder = LossyEncoder(rgb, grey=False, subsampled=subsampled)
        made.append(
            (
                encoder.encode(85, searched=False),
                webp.planes(rgb),
                webp.planes(rgb, alpha),
                np.asarray(avif.prepared(Pixels(rgb), "4:2:0")),
                np.asarray(avif.prepared(Pixels(rgb), "4:4:4")),
            )
        )
    (small, large) = made
    assert small[0] == large[0]
    for one, other in zip(small[1:3], large[1:3], strict=True):
        for name in ("y", "u", "v"):
            assert np.array_equal(getattr(one, name), getattr(other, name)), name
    for one, other in zip(small[3:], large[3:], strict=True):
        assert np.array_equal(one, other)
