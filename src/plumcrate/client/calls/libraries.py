"""Connected folder trees."""

from __future__ import annotations

from collections.abc import Sequence

from pydantic import TypeAdapter

from plumcrate.contract.care import Reattached, ReattachRequest
from plumcrate.contract.libraries import Library, LibraryChange, LibraryRequest
from plumcrate.contract.mapping import FolderProposal, MappingTaken, ProposalAnswer
from plumcrate.contract.mapping import Mapping as RenditionMapping
from plumcrate.contract.savings import Savings
from plumcrate.contract.site_files import SiteFile, SiteFilesRequest

from . import base
from .base import Call


def all() -> Call[list[Library]]:
    return base.get("/libraries", list[Library])


def get(library: str) -> Call[Library]:
    return base.get(f"{base.within(library)}", Library)


def connect(request: LibraryRequest) -> Call[Library]:
    return base.post("/libraries", Library, request)


def change(library: str, change: LibraryChange) -> Call[Library]:
    return Call("PATCH", f"{base.within(library)}", TypeAdapter(Library), body=change)


def disconnect(library: str) -> Call[None]:
    return Call("DELETE", f"{base.within(library)}", TypeAdapter(None))


def savings(library: str) -> Call[Savings]:
    return base.get(f"{base.within(library)}/savings", Savings)


def reattach(library: str, request: ReattachRequest) -> Call[Reattached]:
    """Says that a library's folder is the right one, as it is."""
    return base.post(f"{base.within(library)}/reattach", Reattached, request)


def mapping(library: str) -> Call[RenditionMapping]:
    """What the site said of its renditions."""
    return base.get(f"{base.within(library)}/mapping", RenditionMapping)


def put_mapping(library: str, lines: bytes, *, anew: bool = False) -> Call[MappingTaken]:
    """Says which file was made of which, as JSON lines with ``path`` and ``original``. ``anew``: what was
    said before is forgotten first."""
    params = {"anew": "true"} if anew else None
    address = f"{base.within(library)}/mapping"
    return Call("PUT", address, TypeAdapter(MappingTaken), params, content=lines, seconds=600)


def proposals(library: str) -> Call[list[FolderProposal]]:
    """Folders whose files seem to be renditions."""
    return base.get(f"{base.within(library)}/proposals", list[FolderProposal])


def answer_proposal(library: str, answer: ProposalAnswer) -> Call[None]:
    """Whether a folder's files are the renditions that they seem to be."""
    return Call("POST", f"{base.within(library)}/proposals", TypeAdapter(type(None)), body=answer)


def site_files(library: str, paths: Sequence[str]) -> Call[list[SiteFile]]:
    """What is on record of files, by their paths: up to a thousand at a time."""
    request = SiteFilesRequest(paths=list(paths))
    return base.post(f"{base.within(library)}/site-files", list[SiteFile], request)
