"""What may be treated in a month."""

from __future__ import annotations

from pydantic import TypeAdapter

from plumcrate.contract.allowance import Allowance, AllowanceSettings

from . import base
from .base import Call


def get(library: str) -> Call[Allowance]:
    """What may be treated in this month, and what was."""
    return base.get(f"{base.within(library)}/allowance", Allowance)


def set(library: str, settings: AllowanceSettings) -> Call[Allowance]:
    path = f"{base.within(library)}/allowance"
    return Call("PUT", path, TypeAdapter(Allowance), body=settings)
