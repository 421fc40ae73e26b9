"""What an aim does when a guard says that colours drift or bands show, and where it begins."""

import io
from functools import partial

import numpy as np
import pytest
from PIL import Image

from plumcrate.demo.painter.noise import grain
from plumcrate.demo.painter.scenes import SCENES
from plumcrate.imaging import FixedQuality, Level, Recipe, codecs
from plumcrate.imaging.aim import Attempt, Knob, Landing
from plumcrate.imaging.jpeg import LossyEncoder
from plumcrate.imaging.outcome import Chosen
from plumcrate.imaging.recipe import TARGETS, Limits
from plumcrate.imaging.treatment.case import Case
from plumcrate.imaging.treatment.jpeg import lossy_jpeg

PLENTY = 1 << 30


def painted(scene: str, width: int = 480, height: int = 320) -> bytes:
    rng = np.random.default_rng(5)
    rgb = grain(rng, SCENES[scene](rng, width, height, 1), 0.02)
    out = io.BytesIO()
    Image.fromarray((rgb.clip(0, 1) * 255).astype(np.uint8)).save(out, "JPEG", quality=95)
    return out.getvalue()


def _lowest_that_reaches(attempt: Attempt) -> tuple[bool, int]:
    return not attempt.reaches(TARGETS[Level.EVERYDAY]), attempt.quality


class Guarded(Case):
    """A picture whose guard refuses the first few results."""

    refusals = 0
    asked = 0

    def stays(self, *_: object) -> bool:
        self.asked += 1
        return self.asked > self.refusals


def aimed(case: Case, *, cap: int = PLENTY, first: int | None = None) -> Landing:
    encoder = LossyEncoder(case.pixels.rgb, grey=False, subsampled=True)
    return case.aim(partial(encoder.encode, searched=False), "jpeg", cap=cap, upright=False, first=first)


def guarded(refusals: int, recipe: Recipe | None = None) -> Guarded:
    case = Guarded(painted("headland"), recipe or Recipe(), Limits())
    case.refusals = refusals
    return case


@pytest.mark.parametrize(("refusals", "raised"), [(0, []), (1, [3]), (2, [3, 3]), (3, [3, 3, 5])])
def test_quality_is_raised_by_steps_until_the_guard_is_content(refusals: int, raised: list[int]) -> None:
    free = aimed(guarded(0))
    assert free.best is not None
    landing = aimed(guarded(refusals))
    assert landing.best is not None
    qualities = [attempt.quality for attempt in landing.attempts]
    assert qualities[: len(free.attempts)] == [attempt.quality for attempt in free.attempts]
    steps = np.diff([free.best.quality, *qualities[len(free.attempts) :]])
    assert steps.tolist() == raised
    assert landing.best is (
        landing.attempts[-1] if raised else min(landing.attempts, key=_lowest_that_reaches)
    )


def test_a_guard_that_is_never_content_refuses_the_result_after_three_more() -> None:
    landing = aimed(guarded(99))
    assert landing.best is None
    assert len(landing.attempts) == len(aimed(guarded(0)).attempts) + 3


def test_nothing_is_raised_beyond_the_knob() -> None:
    case = guarded(99, Recipe(Level.GALLERY))
    landing = aimed(case, first=codecs.JPEG.highest)
    qualities = [attempt.quality for attempt in landing.attempts]
    assert max(qualities) <= codecs.JPEG.highest
    assert landing.best is None


def test_no_guard_is_asked_of_what_is_too_large_anyway() -> None:
    case = guarded(99)
    landing = aimed(case, cap=10)
    assert case.asked == 0
    assert len(landing.attempts) == 1


def test_a_fixed_quality_is_taken_as_it_is() -> None:
    case = guarded(99, Recipe(fixed=FixedQuality(jpeg=70)))
    landing = aimed(case)
    assert landing.best is not None
    assert [attempt.quality for attempt in landing.attempts] == [codecs.knob_of("jpeg", 70)]
    assert case.asked == 0


class Misled(Case):
    """A picture of which the statistics say something else than is true."""

    off = 0

    def knob(self, encoder: str) -> tuple[Knob, int | None]:
        knob, first = super().knob(encoder)
        return knob, None if first is None else knob.at(first + self.off)


@pytest.mark.parametrize("off", [-12, 0, 9])
@pytest.mark.parametrize("level", [Level.LEAN, Level.EVERYDAY, Level.GALLERY])
def test_a_jpeg_begins_where_its_first_encode_says_whatever_the_guess(level: Level, off: int) -> None:
    case = Misled(painted("tower", 640, 420), Recipe(level), Limits())
    case.off = off
    output = lossy_jpeg(case)
    assert isinstance(output, Chosen)
    aims = [tried for tried in output.tried if "4:2:0" in tried.how and "scans" not in tried.how]
    few = (
        5 if level is Level.EVERYDAY else 3
    )  # there grain is the limit, of which the score foretells nothing
    assert len(aims) <= few
    guess = int(aims[0].how.split()[1].rstrip(","))
    landed = int(output.how.split()[1].rstrip(","))
    assert abs(guess - landed) <= few, "the first aim is near where it lands"
