"""Touch-ups of pictures."""

from __future__ import annotations

from pydantic import TypeAdapter

from plumcrate.contract.touches import TouchedPicture, TouchedView, Touches, TouchesFor

from . import base
from .base import Call


def get(picture_id: int) -> Call[TouchedPicture]:
    return base.get(f"/pictures/{base.part(picture_id)}/touches", TouchedPicture)


def save(picture_id: int, request: Touches) -> Call[TouchedPicture]:
    """All steps of a picture, in order; none takes all back."""
    address = f"/pictures/{base.part(picture_id)}/touches"
    return Call("PUT", address, TypeAdapter(TouchedPicture), body=request)


def save_several(library: str, request: TouchesFor) -> Call[None]:
    """Adds the same steps to several pictures."""
    return Call("POST", f"{base.within(library)}/touches", TypeAdapter(type(None)), body=request)


def view(picture_id: int, request: TouchedView) -> Call[bytes]:
    """A WebP of what steps would make of a picture, before they are saved."""
    return Call("POST", f"/pictures/{base.part(picture_id)}/view", None, body=request, seconds=90)
