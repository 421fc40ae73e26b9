"""Pictures and their files."""

from __future__ import annotations

from typing import Any

from pydantic import TypeAdapter

from plumcrate.contract.automation import NewFiles, Uploaded
from plumcrate.contract.common import Page
from plumcrate.contract.pictures import (
    Changed,
    Facets,
    OverrideRequest,
    OverridesRequest,
    Picture,
    PictureDetail,
)
from plumcrate.contract.recipes import FilePlan, Trial, TrialRequest, UploadTrial
from plumcrate.contract.sizes import Cuts, Focus, FocusRequest

from . import base
from .base import Call


def facets(library: str, **filters: Any) -> Call[Facets]:
    """What a filter finds, and what each further choice would find."""
    return base.get(f"{base.within(library)}/facets", Facets, **filters)


def try_on(picture_id: int, request: TrialRequest) -> Call[Trial]:
    """Tries settings, or a level, on a part of a picture. Nothing is changed."""
    address = f"/pictures/{base.part(picture_id)}/trial"
    return Call("POST", address, TypeAdapter(Trial), body=request, seconds=90)


def override_many(library: str, request: OverridesRequest) -> Call[Changed]:
    """Overrides the recipe for all pictures that a filter finds."""
    return Call("PUT", f"{base.within(library)}/overrides", TypeAdapter(Changed), body=request)


def page(library: str, **filters: Any) -> Call[Page[Picture]]:
    """Filters: state, folder, search, path, format, sort, after, limit."""
    return base.get(f"{base.within(library)}/pictures", Page[Picture], **filters)


def get(picture_id: int) -> Call[PictureDetail]:
    return base.get(f"/pictures/{base.part(picture_id)}", PictureDetail)


def override(picture_id: int, request: OverrideRequest) -> Call[PictureDetail]:
    return Call(
        "PUT", f"/pictures/{base.part(picture_id)}/override", TypeAdapter(PictureDetail), body=request
    )


def plan(picture_id: int) -> Call[list[FilePlan]]:
    """What a run would do to each file of a picture."""
    return base.get(f"/pictures/{base.part(picture_id)}/plan", list[FilePlan])


def content(file_id: int, version: str = "now") -> Call[bytes]:
    """The bytes of a file: ``now``, ``before``, or the format of what was made beside it."""
    return Call("GET", f"/files/{base.part(file_id)}/content", None, {"version": version})


def upload(
    library: str,
    path: str,
    data: bytes,
    treat: NewFiles = NewFiles.AT_ONCE,
    wait: float = 20.0,
    replaces: str | None = None,
) -> Call[Uploaded]:
    """Puts a picture into a library; waits up to ``wait`` seconds for its light form. ``replaces``: the
    ``original_version`` of the file whose place it takes, or ``*`` for whatever has the name."""
    params = {"treat": str(treat), "wait": wait}
    address = f"{base.within(library)}/files/{'/'.join(map(base.part, path.split('/')))}"
    headers = base.if_match(replaces)
    return Call(
        "PUT", address, TypeAdapter(Uploaded), params, content=data, headers=headers, seconds=wait + 60
    )


def try_upload(library: str, path: str, data: bytes) -> Call[UploadTrial]:
    """What would become of a file if it were uploaded. Nothing is written."""
    address = f"{base.within(library)}/upload-trial"
    return Call("POST", address, TypeAdapter(UploadTrial), {"path": path}, content=data, seconds=300)


def cuts(picture_id: int) -> Call[Cuts]:
    """What every size shows of a picture."""
    return base.get(f"/pictures/{base.part(picture_id)}/cuts", Cuts)


def set_focus(picture_id: int, focus: Focus | None) -> Call[Cuts]:
    """The point that sizes are cut around; None lets it be found again."""
    request = FocusRequest(focus=focus)
    return Call("PUT", f"/pictures/{base.part(picture_id)}/focus", TypeAdapter(Cuts), body=request)
