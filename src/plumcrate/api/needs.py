"""What each operation needs of who asks, held here for all of them.

An operation names an ability: ``who: Looking``. Which library it is about stands in its address, as the
library's short name or as the number of something that belongs to one. What may not be seen is answered as
what is not there, by the same questions to the database. An operation whose address names no library needs
the ability somewhere, and shows or does only what :class:`~plumcrate.people.actor.Who` may.
"""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import Depends, Request
from fastapi.routing import APIRoute
from sqlalchemy import select
from sqlalchemy.orm import Session as OrmSession

from plumcrate.contract.people import Ability
from plumcrate.people.actor import Actor
from plumcrate.records import tables

from .acts import act_of
from .once import once_of
from .problems import ApiError
from .service import service_of
from .transaction import Session, remember_library, works_in_transaction

#: What an address may hold that belongs to a library, and what it is called.
_OWNED: dict[str, tuple[Any, str]] = {
    "run_id": (tables.Run, "run"),
    "job_id": (tables.Job, "job"),
    "picture_id": (tables.Picture, "picture"),
    "file_id": (tables.File, "file"),
    "page_id": (tables.SitePage, "page"),
    "weighing_id": (tables.Weighing, "weighing"),
}


class Need:
    """The check before an operation, as a dependency of FastAPI. ``ability`` None: who administers the
    service. ``reads``: the operation tells, and does nothing that were to be put on record."""

    def __init__(self, ability: Ability | None, *, person: bool = False) -> None:
        self.ability, self.person = ability, person
        self.reads = ability is Ability.LOOK and not person

    def __call__(self, request: Request, session: Session) -> Actor:
        act = act_of(request)
        actor = act.actor
        if actor is None:
            raise ApiError("not-signed-in", "sign in, or send a key as a bearer token")
        if self.person and actor.kind != "person":
            raise ApiError("not-allowed", "keys cannot do this: sign in as a person")
        within = works_in_transaction(request.scope.get("route"))
        self._check(session, request, actor, within)
        if not self.reads:
            _begin_once(session, request, actor)
            if not within:
                session.commit()  # the work is done in transactions of its own
        return actor

    def _check(self, session: OrmSession, request: Request, actor: Actor, within: bool) -> None:
        if self.ability is None:
            if not actor.service:
                raise ApiError("not-allowed", "only an administrator of the whole service may do this")
            return
        library = _library_of(session, request.path_params, actor)
        if not within:
            session.commit()
        if library is not None:
            act_of(request).library = library.slug
            remember_library(session, library)
            need(actor, library, self.ability)
        elif not actor.may_somewhere(self.ability) and self.ability is not Ability.LOOK:
            raise ApiError("not-allowed", f"you may not {self.ability} in any library")


def _begin_once(session: OrmSession, request: Request, actor: Actor) -> None:
    """After the rights were looked at, so that who lost them is not told what was answered before."""
    service, act = service_of(request), act_of(request)
    if request.method == "PATCH" and not works_in_transaction(request.scope.get("route")):
        return  # a piece of an upload, which has a place of its own
    body: bytes = getattr(request, "_body", b"")  # read by now, where the operation has one
    act.once = once_of(request, actor, body, service.state_folder, service.seal)
    if act.once is not None:
        act.once.begin(session)


def need(actor: Actor, library: tables.Library, ability: Ability) -> None:
    """Raises ApiError ``not-allowed`` for who may see a library, but not do this."""
    if not actor.may(library.id, ability):
        raise ApiError("not-allowed", f"this needs the right to {ability} in {library.slug}")


def visible_library(session: OrmSession, actor: Actor, slug: str) -> tables.Library:
    """The library of that name. Raises ApiError ``not-found`` also for one that may not be seen."""
    library = session.scalar(select(tables.Library).where(tables.Library.slug == slug, actor.may_see()))
    if library is None:
        raise ApiError("not-found", f"there is no library called {slug}")
    return library


def _library_of(session: OrmSession, parameters: dict[str, Any], actor: Actor) -> tables.Library | None:
    """The library that an address is about; None when it names none. Raises ApiError ``not-found``."""
    if "slug" in parameters:
        return visible_library(session, actor, str(parameters["slug"]))
    for name, (table, noun) in _OWNED.items():
        if name in parameters:
            number = _number(parameters[name])
            # What belongs to it comes along, and is not fetched again by the operation.
            mine = select(tables.Library, table).join(table, table.library_id == tables.Library.id)
            found = None
            if number is not None:
                found = session.execute(mine.where(table.id == number, actor.may_see())).first()
            if found is None:
                raise ApiError("not-found", f"there is no {noun} {parameters[name]}")
            library: tables.Library = found[0]
            return library
    return None


def _number(text: object) -> int | None:
    """None for what no record's number is; the operation says what is wrong with it."""
    number = str(text)
    return int(number) if number.isascii() and number.isdigit() and len(number) < 19 else None


def need_of(route: APIRoute) -> Need | None:
    """What an operation needs; None for one that is open to everybody."""
    for dependency in route.dependant.dependencies:
        if isinstance(dependency.call, Need):
            return dependency.call
    return None


Looking = Annotated[Actor, Depends(Need(Ability.LOOK))]
Mending = Annotated[Actor, Depends(Need(Ability.MEND))]
Uploading = Annotated[Actor, Depends(Need(Ability.UPLOAD))]
Treating = Annotated[Actor, Depends(Need(Ability.TREAT))]
Administering = Annotated[Actor, Depends(Need(Ability.ADMINISTER))]
#: A person, about themselves.
Myself = Annotated[Actor, Depends(Need(Ability.LOOK, person=True))]
#: Whoever administers the whole service.
Serving = Annotated[Actor, Depends(Need(None))]
