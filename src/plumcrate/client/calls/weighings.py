"""Weighings of pages."""

from __future__ import annotations

from plumcrate.contract.common import Page
from plumcrate.contract.jobs import Job
from plumcrate.contract.runs import Run
from plumcrate.contract.weighing import Point, TreatPage, Weighing, WeighRequest

from . import base
from .base import Call


def start(library: str, request: WeighRequest) -> Call[Job]:
    """Begins to weigh pages; the job's report names the weighings."""
    return base.post(f"{base.within(library)}/weighings", Job, request)


def page(page_id: int, *, after: str | None = None, limit: int = 20) -> Call[Page[Weighing]]:
    """Of a page, the latest first."""
    return base.get(f"/site-pages/{base.part(page_id)}/weighings", Page[Weighing], after=after, limit=limit)


def history(page_id: int) -> Call[list[Point]]:
    """What a page weighed over time, the oldest first."""
    return base.get(f"/site-pages/{base.part(page_id)}/history", list[Point])


def get(weighing_id: int) -> Call[Weighing]:
    return base.get(f"/weighings/{base.part(weighing_id)}", Weighing)


def shot(library: str, shot_id: int) -> Call[bytes]:
    """A picture of a page, as WebP."""
    return Call("GET", f"{base.within(library)}/shots/{base.part(shot_id)}", None)


def treat(weighing_id: int, *, everything: bool = False) -> Call[Run]:
    """Treats what a page shows, the first view or all of it, before all that waits."""
    return base.post(f"/weighings/{base.part(weighing_id)}/run", Run, TreatPage(everything=everything))
