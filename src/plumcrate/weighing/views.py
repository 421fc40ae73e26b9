"""Pages and weighings as the wire shows them."""

from __future__ import annotations

from collections.abc import Container, Sequence

from plumcrate.contract.weighing import Budget, Point, Reading, WeighingKind, WhatIf
from plumcrate.contract.weighing import SitePage as SitePageView
from plumcrate.contract.weighing import Weighing as WeighingView
from plumcrate.pages.budgets import over
from plumcrate.records.queries.weighings import Ends
from plumcrate.records.tables import SitePage, Weighing


def readings_of(row: Weighing) -> list[Reading]:
    return [Reading.model_validate(reading) for reading in row.report.get("readings", [])]


def weighing_view(row: Weighing, page: SitePage, slug: str, may_see: Container[str]) -> WeighingView:
    """A weighing; its own budget counts, else its page's. Of pictures of libraries that may not be seen, by
    their short names, it says what anybody on the page sees."""
    readings = readings_of(row)
    for picture in (picture for reading in readings for picture in reading.pictures):
        if picture.library is not None and picture.library not in may_see:
            picture.library = picture.path = picture.file_id = picture.picture_id = picture.form = None
            picture.untreated = False
    # A shot may have been dropped since.
    there = {shot.id for shot in row.shots}
    for reading in readings:
        reading.shots = [shot for shot in reading.shots if shot.id in there]
    budget = _budget(row.budget) or _budget(page.budget)
    return WeighingView.model_validate(
        {
            "id": row.id,
            "library": slug,
            "page_id": page.id,
            "address": page.address,
            "kind": row.kind,
            "what_if": row.what_if,
            "recipe_version": row.recipe_version,
            "origin": row.origin,
            "run_id": row.run_id,
            "by": row.by,
            "at": row.at,
            "code": row.code,
            "fault": row.fault,
            "readings": readings,
            "findings": row.report.get("findings", []),
            "notes": row.report.get("notes", []),
            "budget": budget,
            "over": over(budget, readings),
        }
    )


def points_of(row: Weighing) -> list[Point]:
    """One for each device; none for a weighing that failed."""
    shots = {shot.device: shot.id for shot in row.shots if shot.part == "first"}
    return [
        Point(
            weighing_id=row.id,
            at=row.at,
            kind=WeighingKind(row.kind),
            device=reading.device,
            bytes=round(reading.bytes.median),
            pictures=reading.of_kind("pictures"),
            requests=round(reading.requests.median),
            lcp=None if reading.lcp is None else reading.lcp.median,
            cls=None if reading.cls is None else reading.cls.median,
            what_if=WhatIf.model_validate(row.what_if) if row.what_if is not None else None,
            run_id=row.run_id,
            shot=shots.get(reading.device),
        )
        for reading in readings_of(row)
    ]


def page_view(page: SitePage, slug: str, ends: Ends | None, count: int) -> SitePageView:
    first, latest, predicted = ends if ends is not None else (None, None, None)
    budget = _budget(page.budget)
    return SitePageView(
        id=page.id,
        library=slug,
        address=page.address,
        budget=budget,
        schedule=page.schedule,
        after_runs=page.after_runs_since is not None,
        has_secrets=page.secrets is not None,
        next_at=page.next_at,
        weighings=count,
        fault=latest.fault if latest is not None else None,
        latest=points_of(latest) if latest is not None else [],
        first=points_of(first) if first is not None else [],
        predicted=points_of(predicted) if predicted is not None else [],
        over=len(over(budget, readings_of(latest))) if latest is not None else 0,
    )


def history_of(rows: Sequence[Weighing]) -> list[Point]:
    """The oldest first."""
    return [point for row in reversed(rows) for point in points_of(row)]


def _budget(values: dict[str, object] | None) -> Budget | None:
    return Budget.model_validate(values) if values else None
