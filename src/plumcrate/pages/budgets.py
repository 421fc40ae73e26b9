"""Whether a page keeps its budget."""

from __future__ import annotations

from collections.abc import Sequence

from plumcrate.contract.weighing import Budget, Over, Reading, Spread


def over(budget: Budget | None, readings: Sequence[Reading]) -> list[Over]:
    """What is not kept, by device; medians count. What could not be measured is not kept either way: a
    budget for it is over when there was nothing to measure it by, so that no pipeline passes by chance."""
    if budget is None:
        return []
    found = []
    for reading in readings:
        measured: dict[str, Spread | float | None] = {
            "bytes": reading.bytes,
            "pictures": float(reading.of_kind("pictures")),
            "requests": reading.requests,
            "fcp": reading.fcp,
            "lcp": reading.lcp,
            "cls": reading.cls,
            "load": reading.load,
        }
        for name, value in measured.items():
            allowed = getattr(budget, name)
            if allowed is None:
                continue
            got = value.median if isinstance(value, Spread) else value
            if got is None or got > allowed:
                found.append(
                    Over(
                        device=reading.device,
                        name=name,
                        allowed=float(allowed),
                        found=got,
                    )
                )
    return found
