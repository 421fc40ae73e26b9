"""Landing on a score, on made-up encoders whose curves are known."""

import math

import numpy as np
from hypothesis import example, given
from hypothesis import strategies as st

from plumcrate.demo.painter.noise import grain
from plumcrate.demo.painter.scenes import SCENES
from plumcrate.imaging import codecs
from plumcrate.imaging.aim import Attempt, Knob, aim
from plumcrate.imaging.priors import detail, features, is_flat, predicted
from plumcrate.imaging.recipe import TOLERANCE
from plumcrate.imaging.scoring import Judgement

KNOB = Knob(lowest=20, highest=98, prior={70.0: 66, 80.0: 80, 90.0: 91}, slope=0.04)


def landed(curve: dict[int, float], target: float, **options: int) -> tuple[int | None, int]:
    def attempted(quality: int) -> Attempt:
        score = curve[quality]
        return Attempt.judged(quality, bytes(quality), Judgement(score, np.array([[score]]), 64))

    landing = aim(attempted, target, KNOB, **options)
    return (landing.best.quality if landing.best else None), len(landing.attempts)


@example(offset=-20.081134560013137, bend=2.090026810218778, target=80.0)
@example(offset=-19.934572789720367, bend=1.830091294593489, target=80.0)
@given(
    offset=st.floats(-25, 25),
    bend=st.floats(0.3, 2.2),
    target=st.sampled_from([70.0, 80.0, 90.0]),
)
def test_the_best_attempt_keeps_the_promise_and_is_near_the_lowest_that_does(
    offset: float, bend: float, target: float
) -> None:
    curve = {q: min(100.0, 100 - 60 * ((99 - q) / 79) ** bend + offset) for q in range(20, 99)}
    quality, attempts = landed(curve, target)
    reachable = [q for q, points in curve.items() if points >= target - TOLERANCE]
    assert attempts <= 7
    if quality is None:
        assert not reachable or max(curve.values()) < target - 0.6 * TOLERANCE
        return
    assert curve[quality] >= target - TOLERANCE
    steepest = max(abs(curve[q + 1] - curve[q]) for q in range(20, 98))
    assert curve[quality] <= target + 0.7 + 2 * steepest or quality <= min(reachable) + 3


def test_a_ceiling_is_noticed() -> None:
    curve = {q: min(74.0, float(q)) for q in range(20, 99)}
    quality, attempts = landed(curve, 80.0)
    assert quality is None
    assert attempts <= 7


def test_it_gives_up_when_even_too_low_a_score_is_too_large() -> None:
    curve = {q: q * 0.5 for q in range(20, 99)}
    quality, attempts = landed(curve, 80.0, stop_above=10)
    assert (quality, attempts) == (None, 1)


def test_what_is_near_but_a_little_too_large_is_still_chased_down() -> None:
    curve = {q: 80 + 0.3 * (q - 78) for q in range(20, 99)}
    assert landed(curve, 80.0, first=79) == (79, 1)
    assert landed(curve, 80.0, first=79, stop_above=79) == (78, 2)
    assert landed(curve, 80.0, first=79, stop_above=70) == (79, 1), "out of reach: nothing more is tried"


def test_the_prior_alone_lands_an_ordinary_picture() -> None:
    curve = {q: 80 + 0.8 * (q - 80) for q in range(20, 99)}
    assert landed(curve, 80.0) == (80, 1)
    assert math.isclose(curve[80], 80.0)


def test_knobs_stay_in_their_range_and_rise_with_the_target() -> None:
    for knob in (codecs.JPEG, codecs.WEBP, codecs.AVIF):
        for quality in range(knob.lowest, knob.highest + 1):
            assert knob.at(quality + 0.2) == quality
            assert knob.place(quality, 80.0, 80.0) == quality
        guesses = [knob.first_guess(target) for target in (60.0, 70.0, 80.0, 90.0)]
        assert guesses == sorted(guesses)
        assert knob.at(-1e6) == knob.lowest
        assert knob.at(1e6) == knob.highest


def test_a_busy_picture_is_expected_to_need_another_quality_than_a_soft_one() -> None:
    rng = np.random.default_rng(0)
    painted = SCENES["headland"](rng, 384, 256, 1)
    soft, busy = (
        (picture.clip(0, 1) * 255).astype(np.uint8) for picture in (painted, grain(rng, painted, 0.1))
    )
    one, other = (features(picture, 5.0) for picture in (soft, busy))
    for encoder, knob in (("jpeg", codecs.JPEG), ("webp", codecs.WEBP), ("avif 4:2:0", codecs.AVIF)):
        first, second = (predicted(encoder, 80.0, picture) for picture in (one, other))
        assert first is not None
        assert second is not None
        assert abs(first.place - second.place) > 1
        assert knob.lowest <= knob.at(first.place) <= knob.highest
        assert 0.01 <= min(first.slope, second.slope) <= max(first.slope, second.slope) <= 0.06
        if encoder != "jpeg":
            assert first.slope < second.slope, "soft pictures gain less with each step"
    assert predicted("jpeg", 20.0, one) is None
    assert predicted("webp", 80.0, one, 70.0) != predicted("webp", 80.0, one, 100.0)
    drawn = np.where(soft > 128, 200, 60).astype(np.uint8)
    assert [is_flat(features(picture, 5.0)) for picture in (drawn, busy)] == [True, False]
    assert detail(one) < 0.1 < detail(other) < 1
    tiny = features(np.zeros((1, 1, 3), np.uint8), 0.0)
    assert np.isfinite(tiny).all()
