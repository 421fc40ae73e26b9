"""The search for the fewest colours, on a made-up picture of which it is known how many are enough."""

from types import SimpleNamespace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from plumcrate.imaging.treatment import png

TOP = len(png._LADDER) - 1


def searched(enough: int, begin: int | None, fits_from: int = 0) -> tuple[int | None, list[int]]:
    """The rung found and those tried, when ``enough`` is the lowest that will do, and flat colours do not fit
    into fewer than ``fits_from``."""
    tried: list[int] = []

    def mapped(size: int, strength: float) -> tuple[np.ndarray, np.ndarray] | None:
        tried.append(png._LADDER.index(size))
        if tried[-1] < fits_from:
            return None
        colours = np.full((size, 4), 255, np.uint8)
        colours[:, 0] = np.arange(size)
        return (np.arange(64) % size).reshape(8, 8).astype(np.uint8), colours

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(png, "_keeps_promise", lambda case, indexes, colours, grained: tried[-1] >= enough)
        found = png._fewest(SimpleNamespace(), SimpleNamespace(mapped=mapped), png._LADDER, 0.0, begin)  # type: ignore[arg-type]
    if found is not None:
        assert found[1].palette is not None
        assert len(found[1].palette) == png._LADDER[found[0]]
        assert found[2] == len(tried)
    return (None if found is None else found[0]), tried


@given(st.integers(0, TOP + 1), st.none() | st.integers(0, TOP), st.integers(0, TOP))
def test_the_lowest_rung_that_will_do_is_found_from_wherever_it_begins(
    enough: int, begin: int | None, fits_from: int
) -> None:
    lowest = max(enough, fits_from)
    found, tried = searched(enough, begin, fits_from)
    assert found == (lowest if lowest <= TOP else None)
    assert len(tried) == len(set(tried)), "no rung is tried twice"
    assert len(tried) <= (6 if begin is None else 9)


@pytest.mark.parametrize("off", range(-2, 3))
def test_a_good_guess_saves_encodes(off: int) -> None:
    found, tried = searched(14, 14 + off)
    assert found == 14
    assert len(tried) <= 5


def test_what_no_palette_can_do_costs_one_encode() -> None:
    assert searched(TOP + 1, None) == (None, [TOP])


def test_rungs_lie_close_together() -> None:
    """A rung too many costs points that nobody asked for."""
    assert all(b / a <= 1.25 for a, b in zip(png._LADDER[5:], png._LADDER[6:], strict=False))
    assert png._LADDER[-1] == 256
