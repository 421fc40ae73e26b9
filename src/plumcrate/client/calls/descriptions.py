"""What pictures say to those who do not see them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from pydantic import TypeAdapter

from plumcrate.contract.common import Page
from plumcrate.contract.descriptions import (
    BulkRequest,
    BulkResult,
    Description,
    DescriptionChange,
    DescriptionSettings,
    DescriptionsSummary,
    ImportResult,
    SearchTerm,
    TermsTaken,
    Texts,
    Undone,
)

from . import base
from .base import Call


def page(
    library: str,
    *,
    language: str = "en",
    wanting: Sequence[str] | None = None,
    folder: str | None = None,
    search: str | None = None,
    page_id: int | None = None,
    used: bool | None = None,
    limit: int = 30,
    after: str | None = None,
) -> Call[Page[Description]]:
    """Pictures by path with what they say. ``wanting``: names of rules. ``after``: the cursor of the page
    before."""
    return base.get(
        f"{base.within(library)}/descriptions",
        Page[Description],
        language=language,
        wanting=list(wanting) if wanting else None,
        folder=folder,
        search=search,
        page_id=page_id,
        used=used,
        limit=limit,
        after=after,
    )


def summary(library: str, *, language: str = "en") -> Call[DescriptionsSummary]:
    """How far a library is described, and what its weighed pages say."""
    return base.get(f"{base.within(library)}/descriptions/summary", DescriptionsSummary, language=language)


def of_picture(picture_id: int) -> Call[list[Description]]:
    """What a picture says, in every language of its library."""
    return base.get(f"/pictures/{base.part(picture_id)}/descriptions", list[Description])


def save(picture_id: int, language: str, texts: Texts, *, based_on: int | None = None) -> Call[Description]:
    """Says what a picture says: all texts of a language. ``based_on``: the version that was changed, 0 for
    none; where somebody changed it meanwhile, nothing is saved, and ``changed-meanwhile`` is answered."""
    headers = {"If-Match": "*" if based_on is None else f'"{based_on}"'}
    path = f"/pictures/{base.part(picture_id)}/descriptions/{base.part(language)}"
    return Call("PUT", path, TypeAdapter(Description), body=texts, headers=headers)


def change(library: str, request: BulkRequest) -> Call[BulkResult]:
    """Changes many descriptions at once, or tells what would change."""
    call = base.post(f"{base.within(library)}/descriptions/change", BulkResult, request)
    return replace(call, seconds=600)


def changes(library: str) -> Call[list[DescriptionChange]]:
    """The latest changes, the latest first."""
    return base.get(f"{base.within(library)}/description-changes", list[DescriptionChange])


def undo(library: str, change_id: int) -> Call[Undone]:
    """Undoes a change; what somebody changed again since stays."""
    return base.post(f"{base.within(library)}/description-changes/{base.part(change_id)}/undo", Undone)


def settings(library: str) -> Call[DescriptionSettings]:
    return base.get(f"{base.within(library)}/description-settings", DescriptionSettings)


def save_settings(library: str, settings: DescriptionSettings) -> Call[DescriptionSettings]:
    address = f"{base.within(library)}/description-settings"
    return Call("PUT", address, TypeAdapter(DescriptionSettings), body=settings)


def terms(library: str) -> Call[list[SearchTerm]]:
    """What people search the site for, the most searched first."""
    return base.get(f"{base.within(library)}/search-terms", list[SearchTerm])


def put_terms(library: str, table: bytes) -> Call[TermsTaken]:
    """Takes in a CSV with the columns ``term`` and ``count``, in place of what was there."""
    address = f"{base.within(library)}/search-terms"
    return Call("PUT", address, TypeAdapter(TermsTaken), content=table, seconds=600)


def csv(library: str, *, language: str = "en") -> Call[bytes]:
    """All descriptions of a language as CSV."""
    params = {"language": language}
    return Call("GET", f"{base.within(library)}/descriptions/csv", None, params, seconds=600)


def put_csv(
    library: str, table: bytes, *, language: str = "en", preview: bool = False, clear: bool = False
) -> Call[ImportResult]:
    """Takes in a CSV. ``clear``: an empty cell empties the text."""
    params = {"language": language, "preview": preview, "clear": clear}
    address = f"{base.within(library)}/descriptions/csv"
    return Call("PUT", address, TypeAdapter(ImportResult), params, content=table, seconds=600)


def xliff(library: str, source: str, target: str) -> Call[bytes]:
    """All descriptions as XLIFF 2.1, from one language into another."""
    params = {"source": source, "target": target}
    return Call("GET", f"{base.within(library)}/descriptions/xliff", None, params, seconds=600)


def put_xliff(library: str, file: bytes, *, preview: bool = False) -> Call[ImportResult]:
    """Takes in translations."""
    address = f"{base.within(library)}/descriptions/xliff"
    return Call("PUT", address, TypeAdapter(ImportResult), {"preview": preview}, content=file, seconds=600)
