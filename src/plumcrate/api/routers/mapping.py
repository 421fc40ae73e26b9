"""What a site says of its renditions."""

from __future__ import annotations

import tempfile
from typing import Annotated

import anyio.to_thread
from fastapi import Query, Request

from plumcrate.api.needs import Administering, Looking
from plumcrate.api.service import service_of
from plumcrate.contract.mapping import FolderProposal, Mapping, MappingTaken, ProposalAnswer
from plumcrate.intake.mapping import mapping_view, take_mapping
from plumcrate.intake.proposals import answer_proposal, proposals
from plumcrate.records.database import Database

from .deps import Session, Slug, TheDatabase, router_of, the_library

router = router_of("mapping")

_IN_MEMORY = 4_000_000


@router.get("/libraries/{slug}/mapping", summary="What the site said of its renditions")
def mapping(slug: Slug, actor: Looking, session: Session) -> Mapping:
    return mapping_view(session, the_library(session, slug))


@router.put("/libraries/{slug}/mapping", summary="Say which file was made of which")
async def put_mapping(
    slug: Slug,
    request: Request,
    actor: Administering,
    database: TheDatabase,
    anew: Annotated[bool, Query(description="Forget first what was said before.")] = False,
) -> MappingTaken:
    """The body holds JSON lines: ``{"path": "images/a.width-300.jpg", "original": "originals/a.jpg"}``. A
    line that cannot be used is refused by itself; the others are taken. Files that come later are known
    then."""
    with tempfile.SpooledTemporaryFile(_IN_MEMORY) as spool:
        async for piece in request.stream():
            await anyio.to_thread.run_sync(spool.write, piece)
        spool.seek(0)
        return await anyio.to_thread.run_sync(
            _take, database, slug, spool, anew, limiter=service_of(request).upload_threads
        )


@router.get("/libraries/{slug}/proposals", summary="Folders whose files seem to be renditions")
def proposed(slug: Slug, actor: Looking, session: Session) -> list[FolderProposal]:
    """By what pictures show: a job `resemblance` found them. Nothing is done until somebody answers."""
    return proposals(session, the_library(session, slug))


@router.post(
    "/libraries/{slug}/proposals", status_code=204, summary="Say whether a folder's files are renditions"
)
def answer(slug: Slug, body: ProposalAnswer, actor: Administering, session: Session) -> None:
    """What is accepted counts from then on as if the site had said so; what is not is forgotten."""
    answer_proposal(session, the_library(session, slug), body)


def _take(
    database: Database, slug: str, spool: tempfile.SpooledTemporaryFile[bytes], anew: bool
) -> MappingTaken:
    with database.begin() as session:
        library = the_library(session, slug)
    return take_mapping(database, library, spool, anew=anew)
