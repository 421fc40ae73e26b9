"""Pages of a site that are rewritten."""

from __future__ import annotations

from plumcrate.contract.delivery import PageFaults, PageFile, PageFiles

from . import base
from .base import Call


def files(library: str, request: PageFiles) -> Call[list[PageFile]]:
    """What pages need to know of files, by their paths."""
    return base.post(f"{base.within(library)}/page-files", list[PageFile], request)


def faults(library: str) -> Call[PageFaults]:
    """Pages that could not be rewritten, and so left as their authors wrote them."""
    return base.get(f"{base.within(library)}/page-faults", PageFaults)


def rewrite(library: str, content: bytes, address: str = "/", kind: str = "text/html") -> Call[bytes]:
    """A page of the site with the right markup; ``address``: where it is there."""
    params, headers = {"address": address}, {"Content-Type": kind}
    return Call(
        "POST", f"{base.within(library)}/page", None, params, content=content, headers=headers, seconds=300
    )
