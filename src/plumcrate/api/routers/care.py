"""Looking after a library: its backups, those that lost their file, its folder."""

from __future__ import annotations

from typing import Annotated

from fastapi import Path
from fastapi.responses import FileResponse

from plumcrate.api.needs import Administering, Looking, Treating
from plumcrate.api.problems import ApiError
from plumcrate.contract.care import Backups, Orphan, PutBackRequest, Reattached, ReattachRequest
from plumcrate.contract.common import Page
from plumcrate.intake.arrivals import put_orphan_back
from plumcrate.keeping import orphans
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.prune import backups_view
from plumcrate.keeping.reattaching import reattach_library
from plumcrate.records import tables

from .deps import After, Limit, Session, Slug, TheDatabase, TheState, router_of, the_library

BackupId = Annotated[int, Path(ge=1, le=2**63 - 1)]

router = router_of("care")


@router.get("/libraries/{slug}/backups", summary="What the backups hold")
def backups(slug: Slug, actor: Looking, session: Session, state: TheState) -> Backups:
    return backups_view(session, the_library(session, slug), state)


@router.get("/libraries/{slug}/orphans", summary="Backups that lost their file")
def the_orphans(
    slug: Slug, actor: Looking, session: Session, after: After = None, limit: Limit = 60
) -> Page[Orphan]:
    """Of files that somebody deleted, moved away or overwritten; the latest first."""
    return orphans.orphans(session, the_library(session, slug).id, after, limit)


@router.get(
    "/libraries/{slug}/orphans/{backup_id}/content",
    summary="The bytes of such a backup",
    response_class=FileResponse,
    responses={200: {"content": {"application/octet-stream": {}}, "description": "The bytes, to be saved"}},
)
def orphan_content(
    slug: Slug, backup_id: BackupId, actor: Looking, session: Session, state: TheState
) -> FileResponse:
    library = the_library(session, slug)
    row = _orphan(session, library, backup_id)
    place = Keeper.of(state.database, library, state).backups.place(row.sha256)
    state.check()
    if not place.is_file():
        raise ApiError("not-found", f"the backup of {row.path} is not in the store")
    name = row.path.rpartition("/")[2] or "backup"
    return FileResponse(place, media_type="application/octet-stream", filename=name)


@router.post("/libraries/{slug}/orphans/{backup_id}/restore", summary="Put such a backup into the library")
def restore_orphan(
    slug: Slug,
    backup_id: BackupId,
    body: PutBackRequest,
    actor: Treating,
    database: TheDatabase,
    state: TheState,
) -> Orphan:
    """Under its former path, or another that is free. It is then a file of the library as any other."""
    with database.begin() as session:
        library = the_library(session, slug)
        row = _orphan(session, library, backup_id)
    path = put_orphan_back(Keeper.of(database, library, state), library, row, body.path, actor.name)
    return Orphan(id=row.id, path=path, size=row.size, created_at=row.created_at)


def _orphan(session: Session, library: tables.Library, backup_id: int) -> tables.Backup:
    row = orphans.orphan(session, library.id, backup_id)
    if row is None:
        raise ApiError("not-found", f"{library.name} has no backup {backup_id}")
    return row


@router.post("/libraries/{slug}/reattach", summary="Say that a library's folder is the right one, as it is")
def reattach(
    slug: Slug, body: ReattachRequest, actor: Administering, database: TheDatabase, state: TheState
) -> Reattached:
    """For a folder that lost its identity file, was moved or copied to another volume, and for changes that
    cannot be settled because their files are gone for good. Nothing is deleted."""
    if body.confirm != slug:
        raise ApiError("not-confirmed", f"confirm with the library's short name, {slug}")
    with database.begin() as session:
        library = the_library(session, slug)
    return reattach_library(Keeper.of(database, library, state))
