"""Pages that are weighed."""

from __future__ import annotations

from pydantic import TypeAdapter

from plumcrate.contract.weighing import PageSettings, SitePage

from . import base
from .base import Call


def all(library: str) -> Call[list[SitePage]]:
    """The pages that were weighed, or are to be."""
    return base.get(f"{base.within(library)}/site-pages", list[SitePage])


def get(page_id: int) -> Call[SitePage]:
    return base.get(f"/site-pages/{base.part(page_id)}", SitePage)


def change(library: str, address: str, settings: PageSettings) -> Call[SitePage]:
    """Settings of a page; one that is not known yet is noted."""
    answer = TypeAdapter(SitePage)
    return Call("PUT", f"{base.within(library)}/site-pages", answer, {"address": address}, body=settings)


def forget(page_id: int) -> Call[None]:
    """With all its weighings."""
    return Call("DELETE", f"/site-pages/{base.part(page_id)}", TypeAdapter(None))
