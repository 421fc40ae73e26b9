"""Treating and restoring many files."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from plumcrate.contract.common import Page
from plumcrate.contract.runs import Item, Run, RunKind, RunRequest, RunState

from . import base
from .base import Call


def start(request: RunRequest) -> Call[Run]:
    return base.post("/runs", Run, request)


def page(
    library: str | None = None,
    *,
    kind: Sequence[RunKind] = (),
    state: Sequence[RunState] = (),
    after: str | None = None,
    limit: int = 30,
) -> Call[Page[Run]]:
    """The latest first, of every library or of one."""
    asked = {"kind": list(kind) or None, "state": list(state) or None}
    return base.get("/runs", Page[Run], library=library, **asked, after=after, limit=limit)


def get(run_id: int) -> Call[Run]:
    return base.get(f"/runs/{base.part(run_id)}", Run)


def items(run_id: int, **filters: Any) -> Call[Page[Item]]:
    """Filters: state, sort, after, limit."""
    return base.get(f"/runs/{base.part(run_id)}/items", Page[Item], **filters)


def checksums(run_id: int) -> Call[bytes]:
    """The originals that a hand-back put back, as ``sha256sum --check`` reads them."""
    return Call("GET", f"/runs/{base.part(run_id)}/checksums", None, seconds=120)


def pause(run_id: int) -> Call[Run]:
    return base.post(f"/runs/{base.part(run_id)}/pause", Run)


def resume(run_id: int) -> Call[Run]:
    return base.post(f"/runs/{base.part(run_id)}/resume", Run)


def stop(run_id: int) -> Call[Run]:
    return base.post(f"/runs/{base.part(run_id)}/stop", Run)


def retry(run_id: int) -> Call[Run]:
    """Tries a run's failed files again."""
    return base.post(f"/runs/{base.part(run_id)}/retry", Run)
