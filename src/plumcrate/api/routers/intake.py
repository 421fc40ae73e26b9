"""New files: uploads through the API, and webhooks signed by the Standard Webhooks scheme.

https://www.standardwebhooks.com: the headers webhook-id, webhook-timestamp and webhook-signature; the
signature is HMAC-SHA256 over "id.timestamp.body" with the secret's bytes, in base64 behind "v1,".
"""

from __future__ import annotations

import asyncio
import base64
import hmac
import secrets
import tempfile
import time
from datetime import UTC, datetime, timedelta
from typing import Annotated, Literal

import anyio.to_thread
from fastapi import Query, Request
from pydantic import ValidationError
from sqlalchemy import delete, select
from sqlalchemy.dialects.postgresql import insert
from starlette.concurrency import run_in_threadpool
from starlette.requests import ClientDisconnect

from plumcrate import contract
from plumcrate.api.auth import Administering, Treating
from plumcrate.api.problems import ApiError
from plumcrate.contract import ItemState, NewFiles
from plumcrate.imaging import ImagingError
from plumcrate.imaging.identification import EXTENSIONS
from plumcrate.keeping.changes import Note
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.state import StateFolder
from plumcrate.records import tables
from plumcrate.records.database import Database
from plumcrate.records.queries.libraries import by_slug
from plumcrate.settings import Settings
from plumcrate.storage.names import fault_of, fault_of_new, shown
from plumcrate.work.intake import take_in_now, tell
from plumcrate.work.locks import PATH_LOCK, path_key
from plumcrate.work.reading import is_picture
from plumcrate.work.sandbox import Sandbox, SandboxError

from .deps import Session, Slug, TheDatabase, TheSettings, TheState, router_of, the_library

router = router_of("intake")

#: How far a webhook's clock may be from ours, in seconds.
_TOLERANCE = 300
#: So much of a file's beginning is looked at before it is taken in.
_HEAD_BYTES = 1 << 24
#: Up to so many bytes an upload waits in memory, beyond on disk.
_IN_MEMORY = 1 << 20
_NOBODYS_SECRET = "whsec_" + base64.b64encode(secrets.token_bytes(32)).decode()


@router.post("/libraries/{slug}/hook-secret", summary="Make a secret for webhooks")
def hook_secret(slug: Slug, person: Administering, session: Session, request: Request) -> contract.HookSecret:
    """The secret is shown this once; a former one is worth nothing from now on."""
    library = the_library(session, slug)
    library.hook_secret = "whsec_" + base64.b64encode(secrets.token_bytes(32)).decode()
    return contract.HookSecret(url=str(request.url_for("take_hook", slug=slug)), secret=library.hook_secret)


@router.post("/hooks/{slug}", status_code=202, summary="Hear of new, changed and deleted files")
async def take_hook(slug: Slug, request: Request, database: TheDatabase) -> contract.HookAnswer:
    """Signed by the Standard Webhooks scheme. A message that was taken in before changes nothing.

    A library that does not exist, or has no secret yet, answers as one whose signature does not fit.
    """
    body = await request.body()
    return await run_in_threadpool(_take_hook, slug, dict(request.headers), body, database)


def _take_hook(slug: str, headers: dict[str, str], body: bytes, database: Database) -> contract.HookAnswer:
    with database.begin() as session:
        library = by_slug(session, slug)
        secret = (library.hook_secret if library is not None else None) or _NOBODYS_SECRET
        hook_id, stamp = headers.get("webhook-id", ""), headers.get("webhook-timestamp", "")
        _check_signature(secret, hook_id, stamp, headers.get("webhook-signature", ""), body)
        if library is None:
            raise _UNFIT
        try:
            event = contract.HookEvent.model_validate_json(body)
        except ValidationError as error:
            raise ApiError(
                "invalid-request", f"the message does not fit: {error.errors()[0]['msg']}"
            ) from None
        old = datetime.now(UTC) - timedelta(seconds=4 * _TOLERANCE)
        session.execute(delete(tables.HookDelivery).where(tables.HookDelivery.received_at < old))
        fresh = session.execute(
            insert(tables.HookDelivery)
            .values(library_id=library.id, hook_id=hook_id)
            .on_conflict_do_nothing()
            .returning(tables.HookDelivery.hook_id)
        ).first()
        if fresh is None:
            return contract.HookAnswer(taken=0, repeated=True)
        return contract.HookAnswer(taken=tell(session, library, event.data.paths), repeated=False)


_UNFIT = ApiError("bad-signature", "the signature was not made with this library's secret")


def _check_signature(secret: str, hook_id: str, stamp: str, given: str, body: bytes) -> None:
    """Raises ApiError. Every signature of the list is compared, in constant time."""
    if not (0 < len(hook_id) <= 200 and fault_of(hook_id) is None and stamp.isdecimal() and len(stamp) < 16):
        raise ApiError("bad-signature", "the headers webhook-id and webhook-timestamp are needed")
    key = base64.b64decode(secret.removeprefix("whsec_"))
    signed = f"{hook_id}.{stamp}.".encode() + body
    expected = base64.b64encode(hmac.digest(key, signed, "sha256"))
    versions = [one.partition(",") for one in given.split()[:20]]
    fits = [
        hmac.compare_digest(expected, value.encode("utf-8", "surrogatepass"))
        for version, _, value in versions
        if version == "v1"
    ]
    if not any(fits):
        raise _UNFIT
    if abs(time.time() - int(stamp)) > _TOLERANCE:
        raise ApiError("too-old", "its time is more than five minutes from ours: set both clocks")


@router.put("/libraries/{slug}/files/{path:path}", status_code=201, summary="Upload a picture")
async def upload(
    slug: Slug,
    path: str,
    request: Request,
    person: Treating,
    database: TheDatabase,
    settings: TheSettings,
    state: TheState,
    treat: NewFiles = NewFiles.AT_ONCE,
    wait: Annotated[float, Query(ge=0, le=300, description="Seconds to wait for the light file.")] = 60,
) -> contract.Uploaded:
    """The request's body is the file. ``at-once`` answers when the light file is in place, or when the
    time to wait is over; its copies follow. A name that is taken is refused."""
    _check_name(path)
    began = time.monotonic()
    with tempfile.SpooledTemporaryFile(_IN_MEMORY) as spool:
        try:
            async for chunk in request.stream():
                if spool.tell() + len(chunk) > _IN_MEMORY:
                    await run_in_threadpool(spool.write, chunk)
                else:
                    spool.write(chunk)
        except ClientDisconnect:
            raise ApiError("bad-body", "the upload was cut off; nothing was written") from None
        sandbox: Sandbox = request.app.state.sandbox
        library, runs = await anyio.to_thread.run_sync(
            _take_upload, slug, path, spool, treat, database, settings, state, sandbox, person.name,
            limiter=request.app.state.upload_threads,
        )  # fmt: skip
    pause = 0.1
    while True:
        found = await run_in_threadpool(_uploaded, database, library, path, runs)
        if treat is not NewFiles.AT_ONCE or found.state != "waiting" or time.monotonic() - began > wait:
            return found
        await asyncio.sleep(pause)
        pause = min(1.0, pause * 1.3)


def _check_name(path: str) -> None:
    fault = fault_of_new(path)
    if fault is None and not is_picture(path):
        fault = "does not end as pictures do"
    if fault is not None:
        raise ApiError("invalid-request", f"the name {shown(path)} {fault}")


def _take_upload(
    slug: str,
    path: str,
    spool: tempfile.SpooledTemporaryFile[bytes],
    treat: NewFiles,
    database: Database,
    settings: Settings,
    state: StateFolder,
    sandbox: Sandbox,
    by: str,
) -> tuple[tables.Library, list[int]]:
    with database.begin() as session:
        library = the_library(session, slug)
    spool.seek(0)
    _check_content(path, spool.read(_HEAD_BYTES), sandbox)
    keeper = Keeper.of(database, library, state)
    with database.advisory_lock(PATH_LOCK, path_key(library.id, path)) as free:
        if not free:
            raise ApiError("name-taken", f"{path} is being uploaded just now; nothing was written")
        spool.seek(0)
        keeper.upload(path, spool.read(), Note(detail={"by": by}))
    taken = take_in_now(database, keeper, library, path, treat, settings.max_megapixels)
    return library, taken.runs


def _check_content(path: str, head: bytes, sandbox: Sandbox) -> None:
    """The content must be a picture, of the format that its name says."""
    try:
        kind = sandbox.format_of(head)
    except (ImagingError, SandboxError) as error:
        raise ApiError("not-a-picture", f"{path} was not taken in: {error}") from None
    ending = "." + path.rpartition(".")[2].lower()
    if ending not in EXTENSIONS[kind]:
        raise ApiError(
            "not-a-picture",
            f"{path} was not taken in: its name ends in {ending}, but it is a {kind.upper()} file",
        )
    if kind == "svg":
        raise ApiError(
            "not-a-picture", f"{path} was not taken in: an SVG can hold scripts; put it in place by hand"
        )


def _uploaded(database: Database, library: tables.Library, path: str, runs: list[int]) -> contract.Uploaded:
    with database.begin() as session:
        file = session.scalar(
            select(tables.File).where(tables.File.library_id == library.id, tables.File.path == path)
        )
        if file is None:
            raise ApiError("not-found", f"{path} is not there any more")
        item = session.scalar(
            select(tables.Item).where(tables.Item.run_id.in_(runs), tables.Item.file_id == file.id)
        )
    state: Literal["light", "waiting", "done", "failed", "not-treated"] = "not-treated"
    if item is not None:
        ended = {ItemState.DONE: "done", ItemState.PASSED: "done", ItemState.FAILED: "failed"}
        state = ended.get(ItemState(item.state), "light" if item.stage else "waiting")  # type: ignore[assignment]
    return contract.Uploaded(
        path=path,
        picture_id=file.picture_id,
        file_id=file.id,
        run_id=runs[0] if runs else None,
        state=state,
        reason=item.reason if item is not None else None,
        size_before=file.size_before,
        size_now=file.size_now,
    )
