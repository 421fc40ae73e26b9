"""Uploads that may be cut off and gone on with: the tus resumable upload protocol, version 1.0 (creation,
termination and expiration), https://tus.io/protocols/resumable-upload."""

from __future__ import annotations

import base64
import binascii
import hashlib
from typing import Annotated, BinaryIO

import anyio
import anyio.to_thread
from fastapi import Header, Path, Request, Response
from starlette.concurrency import run_in_threadpool
from starlette.requests import ClientDisconnect

from plumcrate.api import digests
from plumcrate.api.needs import Uploading, need
from plumcrate.api.problems import ApiError
from plumcrate.api.service import Service, service_of
from plumcrate.contract.automation import NewFiles, UploadProgress
from plumcrate.contract.people import Ability
from plumcrate.intake.arrivals import check_name
from plumcrate.intake.uploads import take_upload
from plumcrate.keeping import resumable
from plumcrate.keeping.changes.base import content_sha
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.state import StateFolder
from plumcrate.people.actor import Actor
from plumcrate.records.database import Database
from plumcrate.records.queries.pictures import uploaded_view
from plumcrate.records.tables import Library, ResumableUpload
from plumcrate.refusal import Refusal
from plumcrate.storage.errors import StorageError, explain

from .deps import PLAIN, Session, Slug, TheDatabase, TheSettings, TheState, router_of, the_library

router = router_of("intake")

VERSION = "1.0.0"
_PIECE_TYPE = "application/offset+octet-stream"
#: So much is gathered before it is written.
_GATHERED = 1 << 18
UploadId = Annotated[str, Path(max_length=60, pattern=PLAIN)]
Length = Annotated[int, Header(alias="Upload-Length", ge=0, le=2**62)]
Metadata = Annotated[
    str,
    Header(
        alias="Upload-Metadata",
        max_length=9000,
        description="`path` and, if wanted, `treat`, each followed by its value in base64, parted by commas.",
    ),
]
Offset = Annotated[int, Header(alias="Upload-Offset", ge=0, le=2**62)]
ReprDigest = Annotated[str | None, Header(max_length=500, description="SHA-256 of the whole (RFC 9530).")]
ContentDigest = Annotated[str | None, Header(max_length=500, description="SHA-256 of the piece (RFC 9530).")]
Replaces = Annotated[
    str | None,
    Header(
        alias="If-Match", max_length=200, description="The file that has the name, and is to be replaced."
    ),
]


def may_replace(database: Database, slug: str, actor: Actor, replaces: str | None) -> None:
    """Raises ApiError where somebody may upload, but not put a file in another's place."""
    if replaces is not None:
        with database.begin() as session:
            need(actor, the_library(session, slug), Ability.MEND)


@router.post("/libraries/{slug}/uploads", status_code=201, summary="Begin an upload in pieces")
def begin(
    slug: Slug,
    actor: Uploading,
    session: Session,
    settings: TheSettings,
    request: Request,
    response: Response,
    length: Length,
    metadata: Metadata,
    repr_digest: ReprDigest = None,
    replaces: Replaces = None,
) -> UploadProgress:
    """By the tus protocol: `Location` is where the pieces go. What has come is kept for a day. `If-Match`
    means what it means when a picture is uploaded in one piece; it is looked at when all has come."""
    said = _metadata(metadata)
    path = said.get("path") or said.get("filename") or ""
    check_name(path)
    if length > settings.max_upload_mb * 1_000_000:
        raise ApiError("too-large", f"an upload has at most {settings.max_upload_mb} MB")
    try:
        mode = NewFiles(said.get("treat", NewFiles.AT_ONCE))
    except ValueError:
        raise ApiError("invalid-request", f"treat is one of {', '.join(NewFiles)}") from None
    digest = digests.sha256_of(repr_digest, "Repr-Digest")
    library = the_library(session, slug)
    if replaces is not None:
        need(actor, library, Ability.MEND)
    row = resumable.begin(session, library, path, length, mode, digest, actor.name, replaces)
    response.headers["Location"] = f"{request.url.path}/{row.id}"
    return _told(response, row, 0)


@router.head(
    "/libraries/{slug}/uploads/{upload}",
    summary="How much of an upload has come",
    response_class=Response,
    responses={200: {"description": "`Upload-Offset` says it"}},
)
def how_far(
    slug: Slug, upload: UploadId, actor: Uploading, session: Session, state: TheState, response: Response
) -> Response:
    row = resumable.find(session, the_library(session, slug), upload)
    _told(response, row, resumable.offset(state, row))
    return Response(headers=dict(response.headers))


@router.get("/libraries/{slug}/uploads/{upload}", summary="What became of an upload")
def progress(
    slug: Slug, upload: UploadId, actor: Uploading, session: Session, state: TheState, response: Response
) -> UploadProgress:
    """How much of it has come; and once all has, the picture that it became."""
    library = the_library(session, slug)
    row = resumable.find(session, library, upload)
    told = _told(response, row, resumable.offset(state, row))
    if row.ended_at is not None:
        told.uploaded = uploaded_view(session, library.id, row.path, row.runs)
    return told


@router.patch(
    "/libraries/{slug}/uploads/{upload}",
    status_code=204,
    summary="Send a piece of an upload",
    openapi_extra={"requestBody": {"required": True, "content": {_PIECE_TYPE: {"schema": {}}}}},
)
async def append(
    slug: Slug,
    upload: UploadId,
    actor: Uploading,
    database: TheDatabase,
    state: TheState,
    request: Request,
    offset: Offset,
    content_digest: ContentDigest = None,
) -> Response:
    """The request's body follows what has come, at `Upload-Offset`. A request that still sends to it is
    ended: its line was cut. With the last piece the file is taken in."""
    if request.headers.get("content-type") != _PIECE_TYPE:
        raise ApiError("wrong-media-type", f"a piece is sent as {_PIECE_TYPE}")
    wanted = digests.sha256_of(content_digest, "Content-Digest")

    def find() -> tuple[Library, ResumableUpload]:
        with database.begin() as session:
            library = the_library(session, slug)
            return library, resumable.find(session, library, upload)

    async with _WRITERS.alone(f"{slug}/{upload}"):
        library, row = await run_in_threadpool(find)  # the former request may have ended it
        here = await run_in_threadpool(resumable.offset, state, row)
        if offset != here:
            raise ApiError("other-offset", f"{here:,} bytes have come: go on there", offset=here)
        if row.ended_at is None:
            try:
                came = await _receive(request, state, row, here, wanted)
            except OSError as error:
                raise explain(error, row.path) from None
            if came == row.length:
                service = service_of(request)
                await anyio.to_thread.run_sync(
                    _finish, service, library, row, actor.name, limiter=service.upload_threads
                )
            here = came
    response = Response(status_code=204)
    _told(response, row, here)
    return response


@router.delete("/libraries/{slug}/uploads/{upload}", status_code=204, summary="Give an upload up")
def give_up(slug: Slug, upload: UploadId, actor: Uploading, session: Session, state: TheState) -> None:
    """What has come of it is deleted; a file that was taken in stays."""
    resumable.drop(session, state, resumable.find(session, the_library(session, slug), upload))


class _Writers:
    """Of each upload one request writes at a time: the newest."""

    def __init__(self) -> None:
        self._scopes: dict[str, anyio.CancelScope] = {}
        self._locks: dict[str, anyio.Lock] = {}

    def alone(self, number: str) -> _Turn:
        return _Turn(self, number)


class _Turn:
    def __init__(self, writers: _Writers, number: str) -> None:
        self._writers, self._number = writers, number
        self._scope = anyio.CancelScope()

    async def __aenter__(self) -> None:
        scopes, locks = self._writers._scopes, self._writers._locks
        if (former := scopes.get(self._number)) is not None:
            former.cancel()
        lock = locks.setdefault(self._number, anyio.Lock())
        await lock.acquire()
        scopes[self._number] = self._scope
        self._scope.__enter__()

    async def __aexit__(self, *error: object) -> bool:
        ended = bool(self._scope.__exit__(*error))  # type: ignore[arg-type]
        if self._writers._scopes.get(self._number) is self._scope:
            del self._writers._scopes[self._number]
        lock = self._writers._locks[self._number]
        lock.release()
        if not lock.locked():  # nobody waited for it
            self._writers._locks.pop(self._number, None)
        if ended:
            raise ApiError("bad-body", "another request goes on with this upload")
        return False


_WRITERS = _Writers()


async def _receive(
    request: Request, state: StateFolder, row: ResumableUpload, offset: int, wanted: bytes | None
) -> int:
    """How much there is after the piece; also of one that was cut off, all that came is kept, unless its
    digest says that it is another. Raises ApiError."""
    digest, gathered, here = hashlib.sha256(), bytearray(), offset
    opened = resumable.appending(state, row)
    file: BinaryIO = await run_in_threadpool(opened.__enter__)

    async def write() -> None:
        nonlocal here
        piece = bytes(gathered)
        gathered.clear()
        digest.update(piece)
        await run_in_threadpool(file.write, piece)
        here += len(piece)

    cut_off = False
    try:
        try:
            async for chunk in request.stream():
                if here + len(gathered) + len(chunk) > row.length:
                    raise ApiError("too-large", f"the upload has {row.length:,} bytes, and more came")
                gathered += chunk
                if len(gathered) >= _GATHERED:
                    await write()
        except ClientDisconnect:
            cut_off = True
        await write()
        if wanted is not None and (cut_off or digest.digest() != wanted):
            await run_in_threadpool(file.truncate, offset)
            here = offset
            if not cut_off:
                digests.check(digest.digest(), wanted)
    finally:
        with anyio.CancelScope(shield=True):
            await run_in_threadpool(opened.__exit__, None, None, None)
    if cut_off:
        raise ApiError("bad-body", "the piece was cut off; what came is kept")
    return here


def _finish(service: Service, library: Library, row: ResumableUpload, by: str) -> None:
    """All has come. What is refused is not kept; what only cannot be taken in just now is."""
    state = service.state_folder
    keeper = Keeper.of(service.database, library, state)
    try:
        with resumable.place(state, row).open("rb") as file:
            if row.sha256 is not None:
                digests.check(content_sha(file), row.sha256)
            mode = NewFiles(row.mode)
            runs = take_upload(keeper, library, row.path, file, mode, service.sandbox, by, row.replaces)
    except (Refusal, ApiError, StorageError) as error:
        passing = isinstance(error, StorageError) and error.code != "name-taken"
        if passing or error.code == "request-under-way":
            raise
        with service.database.begin() as session:
            resumable.drop(session, state, row)
        raise
    with service.database.begin() as session:
        resumable.end(session, state, row, runs)


def _metadata(header: str) -> dict[str, str]:
    """By name (tus 1.0, Upload-Metadata). Raises ApiError."""
    said: dict[str, str] = {}
    for pair in header.split(","):
        name, _, value = pair.strip().partition(" ")
        try:
            said[name] = base64.b64decode(value, validate=True).decode()
        except (binascii.Error, ValueError):
            raise ApiError(
                "invalid-request", f"Upload-Metadata: {name[:60]!r} is not base64 of UTF-8"
            ) from None
    return said


def _told(response: Response, row: ResumableUpload, offset: int) -> UploadProgress:
    """How far an upload is, in headers and as a view."""
    expires = row.created_at + resumable.GOOD_FOR
    headers = {
        "Tus-Resumable": VERSION,
        "Upload-Offset": str(offset),
        "Upload-Length": str(row.length),
        "Upload-Expires": f"{expires:%a, %d %b %Y %H:%M:%S} GMT",
        "Cache-Control": "no-store",
    }
    response.headers.update(headers)
    return UploadProgress(id=row.id, path=row.path, length=row.length, offset=offset, expires_at=expires)
