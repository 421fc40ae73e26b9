"""Watermarks of a library."""

from __future__ import annotations

from pydantic import TypeAdapter

from plumcrate.contract.touches import WatermarkRule, WatermarkSettings

from . import base
from .base import Call


def all(library: str) -> Call[list[WatermarkRule]]:
    return base.get(f"{base.within(library)}/watermarks", list[WatermarkRule])


def save(library: str, name: str, settings: WatermarkSettings) -> Call[WatermarkRule]:
    """Defines a watermark, or changes it; the next run lays it over what it fits."""
    return Call(
        "PUT",
        f"{base.within(library)}/watermarks/{base.part(name)}",
        TypeAdapter(WatermarkRule),
        body=settings,
    )


def set_picture(library: str, name: str, data: bytes) -> Call[WatermarkRule]:
    """A PNG or WebP with transparency."""
    address = f"{base.within(library)}/watermarks/{base.part(name)}/picture"
    return Call("PUT", address, TypeAdapter(WatermarkRule), content=data)


def remove(library: str, name: str) -> Call[None]:
    """The next run brings the unmarked files back."""
    return Call("DELETE", f"{base.within(library)}/watermarks/{base.part(name)}", TypeAdapter(type(None)))
