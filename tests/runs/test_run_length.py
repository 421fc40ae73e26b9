"""How long a run will take, and what other efforts would: reckoned from what a sample took."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from plumcrate.contract.jobs import Range
from plumcrate.imaging import Effort
from plumcrate.imaging.outcome import Measured
from plumcrate.jobs.forecast import _efforts, _length, _SampledFile

JPEGS, PNGS = ("jpeg", 2), ("png", 1)


def candidates(*sizes: int) -> list[_SampledFile]:
    return [_SampledFile(number, size, 1.0, 0) for number, size in enumerate(sizes)]


def took(before: int, seconds: float, after: int = 0, lightest: int = 0) -> Measured:
    return Measured(before, after or before // 2, lightest or before // 4, seconds)


def test_a_library_takes_what_its_sample_took_kind_by_kind() -> None:
    strata = {JPEGS: candidates(100, 300, 600), PNGS: candidates(50, 50)}
    seen = {JPEGS: [took(100, 2.0), took(300, 4.0)], PNGS: [took(50, 5.0)]}
    assert _length(strata, seen) == pytest.approx(6.0 / 400 * 1000 + 5.0 / 50 * 100)


def test_a_kind_that_was_not_looked_at_takes_what_the_others_do() -> None:
    strata = {JPEGS: candidates(100), PNGS: candidates(1000)}
    assert _length(strata, {JPEGS: [took(100, 2.0)]}) == pytest.approx(2.0 + 20.0)
    assert _length(strata, {}) == 0.0
    assert _length({}, {}) == 0.0


@given(st.lists(st.tuples(st.integers(1, 10**7), st.floats(0, 100)), min_size=1, max_size=20))
def test_when_everything_was_looked_at_it_takes_just_that(files: list[tuple[int, float]]) -> None:
    strata = {JPEGS: candidates(*(size for size, _ in files))}
    seen = {JPEGS: [took(size, seconds) for size, seconds in files]}
    assert _length(strata, seen) == pytest.approx(sum(seconds for _, seconds in files))


def test_efforts_are_compared_on_the_files_that_had_all_of_them() -> None:
    compared = [
        {
            Effort.QUICK: took(100, 1.0, 60, 50),
            Effort.NORMAL: took(100, 2.0, 50, 40),
            Effort.THOROUGH: took(100, 6.0, 45, 36),
        },
        {
            Effort.QUICK: took(100, 2.0, 60, 50),
            Effort.NORMAL: took(100, 2.0, 50, 40),
            Effort.THOROUGH: took(100, 6.0, 45, 36),
        },
    ]
    after, lightest = (Range(low=0, expected=value, high=2000) for value in (1000, 800))
    quick, normal, thorough = _efforts(compared, 100.0, after, lightest, Effort.NORMAL)
    assert (normal.run_seconds, normal.bytes_after, normal.bytes_lightest) == (100.0, 1000, 800)
    assert (quick.run_seconds, quick.bytes_after, quick.bytes_lightest) == (75.0, 1200, 1000)
    assert (thorough.run_seconds, thorough.bytes_after, thorough.bytes_lightest) == (300.0, 900, 720)
    # The recipe's own effort is what the others are held against.
    quick, normal, _ = _efforts(compared, 75.0, after, lightest, Effort.QUICK)
    assert (quick.bytes_after, normal.run_seconds) == (1000, 100.0)


def test_nothing_is_said_of_efforts_that_were_not_tried() -> None:
    nothing = Range(low=0, expected=0, high=0)
    assert _efforts([], 10.0, nothing, nothing, Effort.NORMAL) == []
    still = [{effort: Measured(100, 100, 100, 0.0) for effort in Effort}]
    assert [one.run_seconds for one in _efforts(still, 0.0, nothing, nothing, Effort.NORMAL)] == [0.0] * 3
