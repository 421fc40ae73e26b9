"""Serving: rules for the site's own server, what each browser gets, caches, and what visitors were sent."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query, Request, Response

from plumcrate.api.needs import Looking, Treating
from plumcrate.api.problems import ApiError
from plumcrate.contract.delivery import (
    Asked,
    AskReport,
    AskRequest,
    Counts,
    Delivery,
    Got,
    LogPosition,
    PageFile,
    Purges,
    ServerKind,
    Traffic,
)
from plumcrate.delivery.asking import AGENT, SECONDS, Asker, CannotAsk, Question
from plumcrate.delivery.rules import RulesContext, UnfitName, rules
from plumcrate.delivery.rules.ground import Moved
from plumcrate.delivery.traffic import NotItsTurn, count_log
from plumcrate.outgoing import Guard, Outgoing
from plumcrate.previews.page_facts import MEDIA_TYPES
from plumcrate.records.queries.delivery import rules_ground
from plumcrate.records.queries.pages import page_files
from plumcrate.records.queries.purges import waiting
from plumcrate.records.queries.traffic import log_position, traffic
from plumcrate.records.tables import Library

from .deps import Session, Slug, TheDatabase, TheSettings, left, router_of, the_library

router = router_of("serving")

_Days = Annotated[int, Query(ge=1, le=3_650, description="So many days back, today among them.")]
_Log = Annotated[str, Query(pattern="^[0-9a-f]{16}$")]


@router.get(
    "/libraries/{slug}/server-rules/{server}",
    summary="Rules for the site's own server",
    response_class=Response,
    responses={200: {"content": {"text/plain": {}}, "description": "Configuration, commented"}},
)
def server_rules(slug: Slug, server: ServerKind, actor: Looking, session: Session) -> Response:
    """For the library at hand: its folder, its address, its conversions."""
    library = the_library(session, slug)
    settings = _settings(library)
    known = rules_ground(session, library)
    moved = [Moved(path, to) for path, to in known.moved]
    ground = RulesContext(
        library.name,
        library.root,
        settings.address or "",
        tuple(sorted(known.formats)),
        settings.max_age,
        (*moved, *(Moved(path, to, always=True) for path, to in known.redirects)),
        known.save_data,
    )
    try:
        return Response(rules(server, ground), media_type="text/plain; charset=utf-8")
    except UnfitName as error:
        raise ApiError("unfit-name", str(error)) from None


@router.post("/libraries/{slug}/asking", summary="What each browser gets")
def asking(
    slug: Slug,
    body: AskRequest,
    actor: Treating,
    database: TheDatabase,
    service: TheSettings,
    request: Request,
) -> AskReport:
    """Asks the site for a file, or for the pictures of a page, as an old, a WebP and an AVIF browser do."""
    with database.begin() as session:
        library = the_library(session, slug)
        library_id, settings = library.id, _settings(library)
    if (body.path is None) == (body.page is None):
        raise ApiError("invalid-request", "name either a file or a page")
    out = Outgoing(Guard(service.pages_allowed), seconds=SECONDS, agent=AGENT)
    notes: list[str] = []
    try:
        asker = Asker(settings, out, stopped=left(request))
        questions = [asker.of_file(body.path)] if body.path is not None else asker.of_page(body.page or "/")
        if len(questions) > body.most:
            notes.append(f"{len(questions) - body.most:,} more pictures of the page were not asked for")
        questions = questions[: body.most]
        with database.begin() as session:
            paths = {path for one in questions for path in (one.path, *one.paths.values())}
            found = page_files(session, library_id, sorted(paths), MEDIA_TYPES)
        files = {path: file for path, (_, file) in found.items()}
        answers = asker.ask(questions, files)
    except CannotAsk as error:
        raise ApiError("cannot-ask", str(error)) from None
    finally:
        out.close()
    if body.path is None and not questions:
        notes.append("no picture of the library is on this page")
    rows = [
        _row(question, found.get(question.path), got)
        for question, got in zip(questions, answers, strict=True)
    ]
    return AskReport(rows=rows, notes=notes)


def _row(question: Question, found: tuple[int, PageFile] | None, got: list[Got]) -> Asked:
    if found is None:
        return Asked(path=question.path, file_id=None, bytes=0, lightest=0, got=got)
    number, file = found
    lightest = min([file.bytes, *(copy.bytes for copy in file.copies)])
    return Asked(path=file.path, file_id=number, bytes=file.bytes, lightest=lightest, got=got)


@router.get("/libraries/{slug}/purges", summary="What caches have yet to be told")
def purges(slug: Slug, actor: Looking, session: Session) -> Purges:
    return waiting(session, the_library(session, slug).id)


@router.get("/libraries/{slug}/traffic", summary="What visitors were sent")
def the_traffic(slug: Slug, actor: Looking, session: Session, days: _Days = 30) -> Traffic:
    """And what the same requests would have weighed with the files as they first were. Nothing is known of
    who asked."""
    return traffic(session, the_library(session, slug).id, days)


@router.get("/libraries/{slug}/traffic/log", summary="How far an access log was counted")
def position(slug: Slug, actor: Looking, session: Session, log: _Log) -> LogPosition:
    library = the_library(session, slug)
    return LogPosition(log=log, position=log_position(session, library.id, log))


@router.post("/libraries/{slug}/traffic/log", summary="Count a stretch of an access log")
def count(slug: Slug, body: Counts, actor: Treating, session: Session) -> LogPosition:
    """Stretches of one log are counted in their order, each once: one that is not at its turn is refused."""
    library = the_library(session, slug)
    try:
        count_log(session, library.id, body)
    except NotItsTurn as error:
        raise ApiError("counted-already", str(error)) from None
    return LogPosition(log=body.log, position=body.end)


def _settings(library: Library) -> Delivery:
    settings = Delivery.model_validate(library.delivery)
    if settings.address is None:
        raise ApiError("no-address", "set first where the site serves the library's folder (address)")
    return settings
