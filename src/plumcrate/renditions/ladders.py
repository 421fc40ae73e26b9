"""Ladders: widths whose steps cost about the same in bytes, by what pictures weigh in this very library."""

from __future__ import annotations

from sqlalchemy.orm import Session

from plumcrate.contract.sizes import MOST_RUNGS, Ladder, LadderRequest
from plumcrate.deciding.sizing import weights_here
from plumcrate.refusal import Refusal

#: With fewer files nothing can be said.
_LEAST_FILES = 8
#: How bytes grow with pixels: outside of this the files at hand say nothing of it.
_SLOWEST, _FASTEST = 0.4, 1.1
#: The proportions that a width stands for.
_SHAPE = 3 / 4


def ladder(session: Session, library_id: int, request: LadderRequest) -> Ladder:
    """From the narrowest to the widest. Raises :class:`Refusal`."""
    exponent, factor, files = weights_here(session, library_id)
    if files < _LEAST_FILES:
        raise Refusal(
            "nothing-to-treat",
            f"only {files} JPEGs were treated here, too few to say what widths weigh: treat some "
            f"pictures first",
        )
    exponent = min(max(exponent, _SLOWEST), _FASTEST)

    def weight(width: float) -> float:
        return float(factor * (width * width * _SHAPE) ** exponent)

    widths = [request.least]
    while widths[-1] < request.most and len(widths) < MOST_RUNGS:
        wanted = weight(widths[-1]) + request.step
        wider = (wanted / factor) ** (1 / (2 * exponent)) / _SHAPE**0.5
        widths.append(min(request.most, max(widths[-1] + 16, round(wider / 8) * 8)))
    return Ladder(widths=widths, bytes=[round(weight(width)) for width in widths], files=files)
