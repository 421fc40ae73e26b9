"""From the passes over a page to one reading: medians with their spread, bytes by kind, its pictures."""

from __future__ import annotations

import statistics
from collections.abc import Sequence
from typing import Any

from plumcrate.contract.weighing import (
    Box,
    Device,
    KindWeight,
    Line,
    PagePicture,
    PageWords,
    Processor,
    Reading,
    Spread,
)

from .profiles import SCREENS
from .traffic import KINDS

#: How formats are called, by media type.
_FORMATS = {
    "image/jpeg": "jpeg",
    "image/jpg": "jpeg",
    "image/png": "png",
    "image/apng": "png",
    "image/gif": "gif",
    "image/webp": "webp",
    "image/avif": "avif",
    "image/svg+xml": "svg",
    "image/x-icon": "ico",
    "image/vnd.microsoft.icon": "ico",
    "image/bmp": "bmp",
    "image/tiff": "tiff",
    "image/jxl": "jxl",
}


def spread_of(values: Sequence[float | None]) -> Spread | None:
    """None where no pass measured it."""
    known = [value for value in values if value is not None]
    if not known:
        return None
    return Spread(median=statistics.median(known), low=min(known), high=max(known))


def reading_of(
    outcomes: Sequence[dict[str, Any]], device: Device, line: Line, processor: Processor
) -> Reading:
    """``outcomes``: what :func:`plumcrate.pages.visit.visit` told of each visit. The first looked, and is not
    measured unless it is the only one."""
    first, *measured = outcomes
    measured = measured or [first]
    times = [outcome["times"] for outcome in measured]

    def timed(name: str, unit: float = 1_000.0) -> Spread | None:
        return spread_of([None if row[name] is None else row[name] / unit for row in times])

    def counted(what: Any) -> Spread:
        spread = spread_of([float(what(outcome["exchanges"])) for outcome in measured])
        assert spread is not None
        return spread

    page = first["page"]
    notes = list(dict.fromkeys(note for outcome in outcomes for note in outcome["notes"]))
    return Reading(
        device=device,
        line=line,
        processor=processor,
        passes=len(measured),
        landed=first["landed"][:2_000],
        bytes=counted(lambda rows: sum(row["bytes"] for row in rows)),
        first_bytes=counted(lambda rows: sum(row["bytes"] for row in rows if row["first"])),
        requests=counted(len),
        ttfb=timed("ttfb"),
        fcp=timed("fcp"),
        lcp=timed("lcp"),
        load=timed("load"),
        cls=timed("cls", 1.0),
        largest_paint=_largest(measured[0]["times"]["largest"]),
        kinds=kinds_of(first["exchanges"]),
        pictures=_pictures(page["pictures"], first["exchanges"], device, measured[0]["times"]["largest"]),
        width=round(page["width"]),
        height=round(page["height"]),
        notes=notes,
    )


def kinds_of(exchanges: Sequence[dict[str, Any]]) -> list[KindWeight]:
    """Bytes and requests of each kind that there is, in their usual order."""
    found = []
    for name in KINDS:
        rows = [row for row in exchanges if row["kind"] == name]
        if rows:
            found.append(KindWeight(name=name, requests=len(rows), bytes=sum(row["bytes"] for row in rows)))
    return found


def _largest(largest: dict[str, Any] | None) -> str | None:
    """What was painted largest, in words."""
    if largest is None:
        return None
    if largest["address"]:
        return str(largest["address"])
    return f"{largest['tag'] or 'text'}: “{largest['words']}”" if largest["words"] else largest["tag"] or None


def _pictures(
    rows: Sequence[dict[str, Any]],
    exchanges: Sequence[dict[str, Any]],
    device: Device,
    largest: dict[str, Any] | None,
) -> list[PagePicture]:
    screen = SCREENS[device]
    weights: dict[str, int] = {}
    answers: dict[str, dict[str, Any]] = {}
    for row in exchanges:
        name = row["asked"].partition("#")[0]
        weights[name] = weights.get(name, 0) + row["bytes"]
        answers[name] = row
    found = []
    painted = largest["address"] if largest is not None else ""
    painted = next((n for n, row in enumerate(rows, 1) if row["shown"] and row["address"] == painted), 0)
    for number, row in enumerate(rows, 1):
        name = row["address"].partition("#")[0]
        answer = answers.get(name)
        box = {side: round(value, 1) for side, value in row["box"].items()}
        wide, high = (round(side * screen.density) for side in row["drawn"])
        shown = bool(row["shown"])
        found.append(
            PagePicture(
                number=number,
                address=row["address"],
                how=row["how"],
                format=_FORMATS.get(answer["media_type"], "other") if answer is not None else "other",
                bytes=weights.get(name, 0),
                natural_width=row["natural"][0],
                natural_height=row["natural"][1],
                needed_width=wide if shown else 0,
                needed_height=high if shown else 0,
                box=Box(**box),
                first_view=shown and box["top"] < screen.height and _right(box),
                lazy=bool(row["lazy"]),
                stated=bool(row["stated"]),
                preloaded=bool(row["preloaded"]),
                largest_paint=number == painted,
                said=None if row.get("said") is None else PageWords(**row["said"]),
            )
        )
    return found


def _right(box: dict[str, float]) -> bool:
    """Whether any of it is on the page at all."""
    return box["top"] + box["height"] > 0 and box["left"] + box["width"] > 0
