"""What counts as showing the same, within the limits that are promised; and what does not."""

from __future__ import annotations

import io
from functools import cache

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra import numpy as arrays
from PIL import Image

from plumcrate.demo.painter.scenes import SCENES
from plumcrate.imaging import Limits
from plumcrate.imaging.near_duplicates.hashing import features_of, perceptual_hash
from plumcrate.imaging.near_duplicates.index import Index
from plumcrate.imaging.near_duplicates.matching import Match, matched
from plumcrate.imaging.near_duplicates.perceptual import (
    FEATURE,
    MOST_FEATURES,
    THUMBNAIL,
    PerceptualHash,
    is_hash,
)


def picture(seed: int) -> Image.Image:
    """Something with detail at several scales, unlike that of another seed."""
    names = sorted(SCENES)
    scene = SCENES[names[seed % len(names)]](np.random.default_rng(seed), 600, 400, seed)
    return Image.fromarray((scene.clip(0, 1) * 255).astype(np.uint8))


def hashed(image: Image.Image, quality: int = 85) -> PerceptualHash:
    out = io.BytesIO()
    image.save(out, "JPEG", quality=quality)
    return perceptual_hash(out.getvalue(), Limits())


@cache
def original() -> PerceptualHash:
    return hashed(picture(1), 95)


def shown(image: Image.Image, quality: int = 85) -> Match:
    found = matched(original(), hashed(image, quality))
    assert found is not None
    return found


def test_a_smaller_one_compressed_again_is_the_same() -> None:
    found = shown(picture(1).resize((210, 140)), 60)
    assert found.scale == pytest.approx(0.35, rel=0.05)
    assert min(found.of_first, found.of_second) > 0.95
    assert abs(found.turn) < 2


def test_a_cut_of_sixty_per_cent_is_the_same_and_how_much_it_shows_is_told() -> None:
    found = shown(picture(1).crop((60, 40, 560, 330)))
    assert found.of_first == pytest.approx(0.6, abs=0.06)
    assert found.of_second > 0.95


@pytest.mark.parametrize("turn", [Image.Transpose.ROTATE_90, Image.Transpose.ROTATE_180])
def test_one_that_was_turned_is_the_same(turn: Image.Transpose) -> None:
    found = shown(picture(1).transpose(turn))
    wanted = -90 if turn is Image.Transpose.ROTATE_90 else 180
    assert (found.turn - wanted + 180) % 360 - 180 == pytest.approx(0, abs=2)


def test_a_tinted_one_is_the_same() -> None:
    tinted = np.clip(np.asarray(picture(1)) * np.array([0.7, 1.0, 1.25]), 0, 255).astype(np.uint8)
    assert shown(Image.fromarray(tinted)).alike > 0.97


def test_others_are_not_the_same() -> None:
    others = [hashed(picture(seed)) for seed in range(2, 10)]
    assert not [other for other in others if matched(original(), other)]


def test_a_shared_stamp_makes_two_pictures_no_duplicates() -> None:
    stamp = picture(40).resize((150, 100))
    first, second = picture(2), picture(3)
    for image in (first, second):
        image.paste(stamp, (430, 290))
    assert matched(hashed(first), hashed(second)) is None


def test_what_shows_nothing_resembles_nothing() -> None:
    plain = hashed(Image.new("RGB", (300, 200), (120, 130, 140)))
    assert len(plain.features) == 0
    assert matched(plain, plain) is None


@pytest.mark.parametrize("size", [(1, 1), (1, 2_000), (5_000, 3), (40, 40)])
def test_odd_shapes_have_a_hash(size: tuple[int, int]) -> None:
    assert hashed(Image.new("RGB", size, (9, 9, 9))).thumbnail.shape == (THUMBNAIL, THUMBNAIL)


def test_a_document_is_as_large_as_its_first_page_is_drawn() -> None:
    out = io.BytesIO()
    picture(1).save(out, "PDF")
    found = perceptual_hash(out.getvalue(), Limits())
    assert found.width > 100
    assert found.height > 100
    assert matched(original(), found) is not None


def test_a_hash_is_the_same_after_it_was_on_record() -> None:
    known = original()
    again = PerceptualHash.of_bytes(known.width, known.height, known.as_bytes())
    assert again.as_bytes() == known.as_bytes()
    assert is_hash(known.as_bytes())
    assert is_hash(known.as_bytes()[: THUMBNAIL**2])
    for odd in (b"", known.as_bytes()[:-1], known.as_bytes() + bytes(FEATURE.itemsize * MOST_FEATURES)):
        assert not is_hash(odd)


def test_the_index_finds_what_shows_the_same_among_others() -> None:
    cut = hashed(picture(1).crop((60, 40, 560, 330)).resize((400, 232)), 70)
    others = [(number, hashed(picture(number))) for number in range(2, 12)]
    index = Index([(1, original()), *others])
    assert index.candidates(cut)[0] == 1
    assert index.candidates(cut, most=1) == [1]
    assert Index([]).candidates(cut) == []


@given(
    arrays.arrays(
        np.float32,
        arrays.array_shapes(min_dims=2, max_dims=2, max_side=40),
        elements=st.floats(0, 1, width=32),
    )
)
def test_any_plane_has_features_within_their_limits(plane: np.ndarray) -> None:
    found = features_of(plane)
    assert len(found) <= MOST_FEATURES
    assert found.dtype == FEATURE
