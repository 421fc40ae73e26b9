"""New files: uploads through the API, and webhooks."""

from __future__ import annotations

import asyncio
import tempfile
import time
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from typing import Annotated, BinaryIO, cast

import anyio.to_thread
from fastapi import Query, Request
from starlette.concurrency import run_in_threadpool
from starlette.requests import ClientDisconnect

from plumcrate.api import digests
from plumcrate.api.needs import Administering, Uploading
from plumcrate.api.problems import ApiError
from plumcrate.api.service import service_of
from plumcrate.contract.automation import HookAnswer, HookSecret, NewFiles, Uploaded
from plumcrate.contract.recipes import UploadTrial
from plumcrate.intake import trying, uploads
from plumcrate.intake import webhook as hooks
from plumcrate.intake.arrivals import check_name
from plumcrate.keeping.changes.base import content_sha
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.sealing import Seal
from plumcrate.keeping.state import StateFolder
from plumcrate.records import tables
from plumcrate.records.database import Database
from plumcrate.records.queries.pictures import uploaded_view
from plumcrate.sandbox.children import Sandbox

from .deps import PLAIN, Session, Slug, TheDatabase, TheSeal, TheSettings, TheState, router_of, the_library
from .uploads import ContentDigest, Replaces, may_replace

router = router_of("intake")

#: Up to so many bytes an upload waits in memory, beyond on disk.
_IN_MEMORY = 1 << 20
_FILE = {
    "requestBody": {
        "required": True,
        "content": {"application/octet-stream": {"schema": {"type": "string", "format": "binary"}}},
    }
}


@router.post("/libraries/{slug}/hook-secret", summary="Make a secret for webhooks")
def hook_secret(
    slug: Slug, actor: Administering, session: Session, request: Request, seal: TheSeal, state: TheState
) -> HookSecret:
    """The secret is shown this once; a former one is worth nothing from now on."""
    state.check()
    secret = hooks.give_secret(the_library(session, slug), seal)
    return HookSecret(url=str(request.url_for("take_hook", slug=slug)), secret=secret)


@router.post("/hooks/{slug}", status_code=202, summary="Hear of new, changed and deleted files")
async def take_hook(
    slug: Slug, request: Request, database: TheDatabase, seal: TheSeal, state: TheState
) -> HookAnswer:
    """Signed by the Standard Webhooks scheme. A message that was taken in before changes nothing.

    A library that does not exist, or has no secret yet, answers as one whose signature does not fit.
    """
    body = await request.body()
    return await run_in_threadpool(_take_hook, slug, dict(request.headers), body, database, seal, state)


def _take_hook(
    slug: str, headers: dict[str, str], body: bytes, database: Database, seal: Seal, state: StateFolder
) -> HookAnswer:
    with database.begin() as session:
        return hooks.take_hook(session, slug, headers, body, seal, state)


@router.put(
    "/libraries/{slug}/files/{path:path}",
    status_code=201,
    summary="Upload a picture",
    openapi_extra=_FILE,
)
async def upload(
    slug: Slug,
    path: str,
    request: Request,
    actor: Uploading,
    database: TheDatabase,
    state: TheState,
    treat: NewFiles = NewFiles.AT_ONCE,
    wait: Annotated[float, Query(ge=0, le=300, description="Seconds to wait for the light file.")] = 60,
    content_digest: ContentDigest = None,
    replaces: Replaces = None,
) -> Uploaded:
    """The request's body is the file. ``at-once`` answers when the light file is in place, or when the
    time to wait is over; its copies follow. A name that is taken is refused, unless the same bytes came under
    it before: whoever did not hear the answer sends the file again.

    With `If-Match` it takes the place of the file that has the name, if that is the one meant: its
    `original_version` in quotes, or `*` for whatever is there. What it replaces is backed up. That also needs
    the right to mend."""
    check_name(path)
    await run_in_threadpool(may_replace, database, slug, actor, replaces)
    wanted = digests.sha256_of(content_digest, "Content-Digest")
    began = time.monotonic()
    async with _received(request, wanted) as spool:
        library, runs = await anyio.to_thread.run_sync(
            _take_upload,
            slug,
            path,
            spool,
            treat,
            database,
            state,
            service_of(request).sandbox,
            actor.name,
            replaces,
            limiter=service_of(request).upload_threads,
        )
    pause = 0.1
    while True:
        view = await run_in_threadpool(_uploaded, database, library, path, runs)
        if treat is not NewFiles.AT_ONCE or view.state != "waiting" or time.monotonic() - began > wait:
            return view
        await asyncio.sleep(pause)
        pause = min(1.0, pause * 1.3)


@router.post("/libraries/{slug}/upload-trial", summary="Try an upload", openapi_extra=_FILE)
async def try_an_upload(
    slug: Slug,
    path: Annotated[str, Query(max_length=2000, pattern=PLAIN, description="As which it would be uploaded.")],
    request: Request,
    actor: Uploading,
    database: TheDatabase,
    state: TheState,
    settings: TheSettings,
    content_digest: ContentDigest = None,
) -> UploadTrial:
    """The request's body is the file. It is treated by the recipe in memory, and the answer says what would
    become of it; nothing is written. One is tried at a time."""
    check_name(path)
    service = service_of(request)

    def attempt() -> UploadTrial:
        with database.begin() as session:
            library = the_library(session, slug)
        keeper = Keeper.of(database, library, state)
        file = cast(BinaryIO, spool)
        return trying.try_upload(
            keeper, library, path, file, service.upload_trial_sandbox, settings.most_bytes
        )

    async with _received(request, digests.sha256_of(content_digest, "Content-Digest")) as spool:
        return await anyio.to_thread.run_sync(attempt, limiter=service.upload_trial_threads)


@asynccontextmanager
async def _received(
    request: Request, wanted: bytes | None
) -> AsyncIterator[tempfile.SpooledTemporaryFile[bytes]]:
    """The request's body, whole. Raises ApiError where it was cut off, or is not the one that ``wanted``, its
    SHA-256, says."""
    with tempfile.SpooledTemporaryFile(_IN_MEMORY) as spool:
        try:
            async for chunk in request.stream():
                if spool.tell() + len(chunk) > _IN_MEMORY:
                    await run_in_threadpool(spool.write, chunk)
                else:
                    spool.write(chunk)
        except ClientDisconnect:
            raise ApiError("bad-body", "the upload was cut off; nothing was written") from None
        if wanted is not None:
            digests.check(await run_in_threadpool(content_sha, cast(BinaryIO, spool)), wanted)
        yield spool


def _take_upload(
    slug: str,
    path: str,
    spool: tempfile.SpooledTemporaryFile[bytes],
    treat: NewFiles,
    database: Database,
    state: StateFolder,
    sandbox: Sandbox,
    by: str,
    replaces: str | None,
) -> tuple[tables.Library, list[int]]:
    with database.begin() as session:
        library = the_library(session, slug)
    keeper = Keeper.of(database, library, state)
    file = cast(BinaryIO, spool)
    return library, uploads.take_upload(keeper, library, path, file, treat, sandbox, by, replaces)


def _uploaded(database: Database, library: tables.Library, path: str, runs: list[int]) -> Uploaded:
    with database.begin() as session:
        view = uploaded_view(session, library.id, path, runs)
    if view is None:
        raise ApiError("not-found", f"{path} is not there any more")
    return view
