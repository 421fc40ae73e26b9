"""New files: uploads through the API, and webhooks signed by the Standard Webhooks scheme.

https://www.standardwebhooks.com: the headers webhook-id, webhook-timestamp and webhook-signature; the
signature is HMAC-SHA256 over "id.timestamp.body" with the secret's bytes, in base64 behind "v1,".
"""

from __future__ import annotations

import base64
import hmac
import secrets
import time
from datetime import UTC, datetime, timedelta
from typing import Annotated, Literal

from fastapi import APIRouter, Query, Request, Response
from pydantic import ValidationError
from sqlalchemy import delete, select
from sqlalchemy.dialects.postgresql import insert
from starlette.concurrency import run_in_threadpool

from plumcrate import contract
from plumcrate.api.auth import Administering, Treating
from plumcrate.api.problems import ApiError
from plumcrate.contract import ItemState, NewFiles
from plumcrate.imaging import ImagingError, identify
from plumcrate.keeping.backups import BackupStore
from plumcrate.keeping.keeper import Keeper
from plumcrate.records import tables
from plumcrate.records.database import Database
from plumcrate.settings import Settings
from plumcrate.storage.folder import Folder, StorageError
from plumcrate.work.intake import is_picture, take_in_now, tell

from .deps import Session, TheDatabase, TheSettings, the_library

router = APIRouter(tags=["intake"])

#: How far a webhook's clock may be from ours, in seconds.
_TOLERANCE = 300
_MOST_HOOK_BYTES = 1_000_000


@router.post("/libraries/{slug}/hook-secret", summary="Make a secret for webhooks")
def hook_secret(slug: str, person: Administering, session: Session, request: Request) -> contract.HookSecret:
    """The secret is shown this once; a former one is worth nothing from now on."""
    library = the_library(session, slug)
    library.hook_secret = "whsec_" + base64.b64encode(secrets.token_bytes(32)).decode()
    return contract.HookSecret(url=str(request.url_for("take_hook", slug=slug)), secret=library.hook_secret)


@router.post("/hooks/{slug}", status_code=202, summary="Hear of new, changed and deleted files")
async def take_hook(slug: str, request: Request, database: TheDatabase) -> contract.HookAnswer:
    """Signed by the Standard Webhooks scheme. A message that was taken in before changes nothing."""
    body = b""
    async for chunk in request.stream():
        body += chunk
        if len(body) > _MOST_HOOK_BYTES:
            raise ApiError("too-large", "a webhook holds at most 1 MB; send the paths in several")
    return await run_in_threadpool(_take_hook, slug, dict(request.headers), body, database)


def _take_hook(slug: str, headers: dict[str, str], body: bytes, database: Database) -> contract.HookAnswer:
    with database.begin() as session:
        library = the_library(session, slug)
        if library.hook_secret is None:
            raise ApiError("no-hook", "an administrator must make a secret for it first")
        hook_id, stamp = headers.get("webhook-id", ""), headers.get("webhook-timestamp", "")
        _check_signature(library.hook_secret, hook_id, stamp, headers.get("webhook-signature", ""), body)
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
        paths = [path for path in event.data.paths if _is_inside(path)]
        return contract.HookAnswer(taken=tell(session, library, paths), repeated=False)


def _check_signature(secret: str, hook_id: str, stamp: str, given: str, body: bytes) -> None:
    """Raises ApiError. Every signature of the list is compared, in constant time."""
    if not (hook_id and stamp.isdecimal() and len(stamp) < 16):
        raise ApiError("bad-signature", "the headers webhook-id and webhook-timestamp are needed")
    key = base64.b64decode(secret.removeprefix("whsec_"))
    expected = base64.b64encode(hmac.digest(key, f"{hook_id}.{stamp}.".encode() + body, "sha256")).decode()
    versions = [one.partition(",") for one in given.split()]
    fits = [hmac.compare_digest(expected, value) for version, _, value in versions if version == "v1"]
    if not any(fits):
        raise ApiError("bad-signature", "the signature was not made with this library's secret")
    if abs(time.time() - int(stamp)) > _TOLERANCE:
        raise ApiError("too-old", "its time is more than five minutes from ours: set both clocks")


def _is_inside(path: str) -> bool:
    parts = path.split("/")
    return bool(path) and not path.startswith("/") and ".." not in parts and "" not in parts


@router.put("/libraries/{slug}/files/{path:path}", status_code=201, summary="Upload a picture")
async def upload(
    slug: str,
    path: str,
    request: Request,
    response: Response,
    person: Treating,
    database: TheDatabase,
    settings: TheSettings,
    treat: NewFiles = NewFiles.AT_ONCE,
    wait: Annotated[float, Query(ge=0, le=300, description="Seconds to wait for the light file.")] = 60,
) -> contract.Uploaded:
    """The request's body is the file. ``at-once`` answers when the light file is in place, or when the
    time to wait is over; its copies follow. A name that is taken is refused."""
    declared = request.headers.get("content-length", "0")
    body = bytearray()
    most = settings.max_upload_mb * 1_000_000
    if declared.isdecimal() and int(declared) > most:
        raise ApiError("too-large", f"a picture may have at most {settings.max_upload_mb} MB")
    async for chunk in request.stream():
        body += chunk
        if len(body) > most:
            raise ApiError("too-large", f"a picture may have at most {settings.max_upload_mb} MB")
    return await run_in_threadpool(_upload, slug, path, bytes(body), treat, wait, database, settings)


def _upload(
    slug: str, path: str, data: bytes, treat: NewFiles, wait: float, database: Database, settings: Settings
) -> contract.Uploaded:
    if (
        not _is_inside(path)
        or not is_picture(path)
        or any(len(part.encode()) > 255 for part in path.split("/"))
    ):
        raise ApiError("invalid-request", "the path must be one inside the library that ends as pictures do")
    try:
        identify(data)
    except ImagingError as error:
        raise ApiError("not-a-picture", f"{path} was not taken in: {error}") from None
    with database.begin() as session:
        library = the_library(session, slug)
    keeper = Keeper(database, library.id, Folder(library.root), BackupStore(settings.backups_of(slug)))
    _put(keeper.folder, path, data)
    taken = take_in_now(database, keeper, library, path, treat, settings.max_megapixels)
    deadline = time.monotonic() + wait
    while True:
        with database.begin() as session:
            found = _uploaded(session, library, path, taken.runs)
        if treat is not NewFiles.AT_ONCE or found.state != "waiting" or time.monotonic() > deadline:
            return found
        time.sleep(0.1)


def _put(folder: Folder, path: str, data: bytes) -> None:
    parent = path.rpartition("/")[0]
    folder.make_folder(parent)
    staged = folder.staged_name(path)
    folder.stage(staged, data)
    try:
        published = folder.publish(staged, path)
    except StorageError:
        folder.remove(staged)
        raise
    if not published:
        folder.remove(staged)
        raise ApiError("name-taken", f"{path} is there already; nothing was written")


def _uploaded(session: Session, library: tables.Library, path: str, runs: list[int]) -> contract.Uploaded:
    file = session.scalars(
        select(tables.File).where(tables.File.library_id == library.id, tables.File.path == path)
    ).one()
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
