"""What a site's own software asks of its files."""

from __future__ import annotations

from plumcrate.api.needs import Looking
from plumcrate.contract.site_files import SiteFile, SiteFilesRequest
from plumcrate.records.queries.site_files import site_files

from .deps import Session, Slug, router_of, the_library

router = router_of("site-files")


@router.post("/libraries/{slug}/site-files", summary="What a site's software needs to know of files")
def the_site_files(slug: Slug, body: SiteFilesRequest, actor: Looking, session: Session) -> list[SiteFile]:
    """By their paths; those that are not on record are left out of the answer."""
    return site_files(session, the_library(session, slug).id, body.paths)
