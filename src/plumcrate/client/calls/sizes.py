"""Named sizes of a library."""

from __future__ import annotations

from pydantic import TypeAdapter

from plumcrate.contract.sizes import (
    BringingBack,
    Ladder,
    LadderRequest,
    NamedSize,
    RemoveUnused,
    SizeEffect,
    SizeProposal,
    SizeSettings,
    UnusedFiles,
    UnusedSizes,
)

from . import base
from .base import Call


def all(library: str) -> Call[list[NamedSize]]:
    return base.get(f"{base.within(library)}/sizes", list[NamedSize])


def save(library: str, name: str, settings: SizeSettings) -> Call[NamedSize]:
    """Defines a size, or changes it; the next run makes what it asks for."""
    return Call(
        "PUT", f"{base.within(library)}/sizes/{base.part(name)}", TypeAdapter(NamedSize), body=settings
    )


def remove(library: str, name: str) -> Call[None]:
    """Its files are removed by the next run."""
    return Call("DELETE", f"{base.within(library)}/sizes/{base.part(name)}", TypeAdapter(type(None)))


def effect(library: str, name: str, settings: SizeSettings | None) -> Call[SizeEffect]:
    """What a size would do were it saved so; None: were it removed."""
    proposal = SizeProposal(settings=settings)
    return base.post(f"{base.within(library)}/sizes/{base.part(name)}/effect", SizeEffect, proposal)


def ladder(library: str, request: LadderRequest) -> Call[Ladder]:
    """Widths whose steps weigh the same in this library."""
    return base.post(f"{base.within(library)}/ladder", Ladder, request)


def unused(library: str, days: int = 30) -> Call[UnusedSizes]:
    """What nobody asked for within so many days."""
    return base.get(f"{base.within(library)}/unused-sizes", UnusedSizes, days=days)


def remove_unused(library: str, request: RemoveUnused) -> Call[UnusedFiles]:
    """The next run removes files of sizes that nobody asked for."""
    return base.post(f"{base.within(library)}/unused-sizes/remove", UnusedFiles, request)


def bring_back(library: str, size: str | None = None) -> Call[UnusedFiles]:
    """The next run makes again what was removed."""
    request = BringingBack(size=size)
    return base.post(f"{base.within(library)}/unused-sizes/bring-back", UnusedFiles, request)
