"""Sizes that places on pages need."""

from __future__ import annotations

from pydantic import TypeAdapter

from plumcrate.contract.weighing import Device, Needed, NeededRequest

from . import base
from .base import Call


def note(weighing_id: int, device: Device, number: int) -> Call[list[Needed]]:
    """Notes the size that a picture's place needs."""
    body = NeededRequest(device=device, number=number)
    return base.post(f"/weighings/{base.part(weighing_id)}/needs", list[Needed], body)


def all(library: str) -> Call[list[Needed]]:
    """Sizes that places need, the latest first."""
    return base.get(f"{base.within(library)}/needs", list[Needed])


def forget(library: str, need_id: int) -> Call[None]:
    return Call("DELETE", f"{base.within(library)}/needs/{base.part(need_id)}", TypeAdapter(None))
