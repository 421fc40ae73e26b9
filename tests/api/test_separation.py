"""Every operation of the interface's own description, for every kind of caller, on their own library, on
another's, and on one that is not there: another's answers exactly as what is not there.

An operation that is not in ``ENTRIES`` fails the first test.
"""

import json
import re
import threading
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import httpx
import psycopg
import pytest
from conftest import Service, photograph, running_service, wait_for
from databases import Postgres

from plumcrate.api.app import create_app
from plumcrate.client import Client
from plumcrate.contract.libraries import LibraryRequest
from plumcrate.contract.people import (
    ROLES,
    Ability,
    Grant,
    InvitationRequest,
    Joining,
    KeyRequest,
    LibraryKeyRequest,
    MemberInvitation,
    Role,
)
from plumcrate.contract.runs import RunKind, RunRequest
from plumcrate.contract.weighing import Box, Device, Line, PagePicture, Processor, Reading, Spread
from plumcrate.settings import Settings

LOOK, MEND, UPLOAD, TREAT, ADMINISTER = Ability
OPEN, MYSELF, SERVICE = "open", "myself", "service"
#: What only the other library's records hold. Not one of these words may be in any answer.
MARKS = ("other-firm", "Otherwise Ltd", "secretfolder", "hidden-otter", "rival@other.example", "otterkey")
ABSENT = 987_654_321


@dataclass
class Place:
    """A library, and the numbers of what belongs to it."""

    slug: str
    numbers: dict[str, int] = field(default_factory=dict)


Body = Callable[[Place], Any]


@dataclass(frozen=True)
class Entry:
    """What an operation needs, and what is sent with it so that it is not refused for its form."""

    needs: Ability | str
    body: Body | None = None
    query: Body | None = None


def run_of(kind: str, one: bool) -> Body:
    def body(place: Place) -> Any:
        scope = {"pictures": [place.numbers["picture_id"]]} if one else {}
        return {"library": place.slug, "kind": kind, "scope": scope}

    return body


ENTRIES: dict[str, Entry] = {
    "GET /session": Entry(OPEN),
    "POST /session": Entry(OPEN),
    "DELETE /session": Entry(OPEN),
    "GET /me/sessions": Entry(MYSELF),
    "DELETE /me/sessions": Entry(MYSELF),
    "DELETE /me/sessions/{session_id}": Entry(MYSELF),
    "PUT /me/password": Entry(MYSELF),
    "POST /me/second-factor": Entry(MYSELF),
    "PUT /me/second-factor": Entry(MYSELF),
    "POST /me/recovery-codes": Entry(MYSELF),
    "POST /me/second-factor/end": Entry(MYSELF),
    "GET /people": Entry(SERVICE),
    "GET /people/{person_id}": Entry(SERVICE),
    "PATCH /people/{person_id}": Entry(SERVICE),
    "DELETE /people/{person_id}": Entry(SERVICE),
    "POST /people/{person_id}/new-password": Entry(SERVICE),
    "GET /invitations": Entry(SERVICE),
    "POST /invitations": Entry(SERVICE),
    "DELETE /invitations/{invitation_id}": Entry(SERVICE),
    "POST /joining/offer": Entry(OPEN),
    "POST /joining": Entry(OPEN),
    "GET /libraries/{slug}/people": Entry(ADMINISTER),
    "GET /libraries/{slug}/people/{person_id}": Entry(ADMINISTER),
    "PUT /libraries/{slug}/people/{person_id}": Entry(ADMINISTER, lambda _: {"role": "look"}),
    "DELETE /libraries/{slug}/people/{person_id}": Entry(ADMINISTER),
    "GET /libraries/{slug}/invitations": Entry(ADMINISTER),
    "POST /libraries/{slug}/invitations": Entry(
        ADMINISTER, lambda _: {"email": "x@y.example", "role": "look"}
    ),
    "DELETE /libraries/{slug}/invitations/{invitation_id}": Entry(ADMINISTER),
    "GET /keys": Entry(SERVICE),
    "POST /keys": Entry(SERVICE),
    "DELETE /keys/{key_id}": Entry(SERVICE),
    "POST /keys/{key_id}/rotation": Entry(SERVICE),
    "GET /libraries/{slug}/keys": Entry(ADMINISTER),
    "POST /libraries/{slug}/keys": Entry(ADMINISTER, lambda _: {"name": "more"}),
    "DELETE /libraries/{slug}/keys/{key_id}": Entry(ADMINISTER),
    "POST /libraries/{slug}/keys/{key_id}/rotation": Entry(ADMINISTER, lambda _: {"overlap_hours": 1}),
    "GET /audit": Entry(SERVICE),
    "GET /audit/export": Entry(SERVICE),
    "GET /libraries/{slug}/audit": Entry(ADMINISTER),
    "GET /libraries/{slug}/audit/export": Entry(ADMINISTER),
    "GET /settings": Entry(SERVICE),
    "GET /health": Entry(OPEN),
    "GET /metrics": Entry(SERVICE),
    "GET /machine": Entry(ADMINISTER),
    "GET /libraries": Entry(LOOK),
    "POST /libraries": Entry(SERVICE),
    "GET /libraries/{slug}": Entry(LOOK),
    "PATCH /libraries/{slug}": Entry(ADMINISTER, lambda _: {}),
    "DELETE /libraries/{slug}": Entry(SERVICE),
    "GET /libraries/{slug}/savings": Entry(LOOK),
    "GET /libraries/{slug}/recipe": Entry(LOOK),
    "PUT /libraries/{slug}/recipe": Entry(ADMINISTER, lambda _: {}),
    "GET /libraries/{slug}/recipes": Entry(LOOK),
    "POST /libraries/{slug}/recipe/effect": Entry(LOOK, lambda _: {}),
    "GET /folders": Entry(SERVICE),
    "GET /folders/preview": Entry(SERVICE, query=lambda _: {"path": "/srv/x.jpg"}),
    "GET /formats": Entry(LOOK),
    "GET /libraries/{slug}/pictures": Entry(LOOK, query=lambda _: {"search": "otter"}),
    "GET /libraries/{slug}/facets": Entry(LOOK, query=lambda _: {"search": "otter"}),
    "PUT /libraries/{slug}/overrides": Entry(MEND, lambda _: {"which": {}, "override": "leave"}),
    "GET /libraries/{slug}/folders": Entry(LOOK),
    "GET /pictures/{picture_id}": Entry(LOOK),
    "PUT /pictures/{picture_id}/override": Entry(MEND, lambda _: {"override": "leave"}),
    "GET /pictures/{picture_id}/plan": Entry(LOOK),
    "POST /pictures/{picture_id}/trial": Entry(LOOK, lambda _: {}),
    "GET /files/{file_id}/content": Entry(LOOK),
    "GET /files/{file_id}/preview": Entry(LOOK),
    "POST /runs": Entry(MEND, run_of("restore", one=True)),
    "GET /runs": Entry(LOOK, query=lambda place: {"library": place.slug}),
    "GET /runs/{run_id}": Entry(LOOK),
    "GET /runs/{run_id}/items": Entry(LOOK),
    "GET /runs/{run_id}/checksums": Entry(LOOK),
    "POST /runs/{run_id}/retry": Entry(TREAT),
    "POST /runs/{run_id}/{action}": Entry(TREAT),
    "GET /events": Entry(LOOK),
    "POST /libraries/{slug}/surveys": Entry(TREAT),
    "POST /libraries/{slug}/checks": Entry(TREAT, lambda _: {}),
    "POST /libraries/{slug}/forecasts": Entry(TREAT, lambda _: {"seconds": 1}),
    "POST /libraries/{slug}/prunings": Entry(ADMINISTER, lambda _: {}),
    "GET /libraries/{slug}/jobs": Entry(LOOK),
    "GET /jobs/{job_id}": Entry(LOOK),
    "POST /jobs/{job_id}/stop": Entry(TREAT),
    "POST /libraries/{slug}/hook-secret": Entry(ADMINISTER),
    "POST /hooks/{slug}": Entry(OPEN),
    "POST /libraries/{slug}/uploads": Entry(UPLOAD),
    "HEAD /libraries/{slug}/uploads/{upload}": Entry(UPLOAD),
    "GET /libraries/{slug}/uploads/{upload}": Entry(UPLOAD),
    "PATCH /libraries/{slug}/uploads/{upload}": Entry(UPLOAD),
    "DELETE /libraries/{slug}/uploads/{upload}": Entry(UPLOAD),
    "PUT /libraries/{slug}/files/{path}": Entry(UPLOAD, lambda _: b"no picture", query=lambda _: {"wait": 0}),
    "POST /libraries/{slug}/upload-trial": Entry(
        UPLOAD, lambda _: b"no picture", query=lambda _: {"path": "a.jpg"}
    ),
    "GET /libraries/{slug}/backups": Entry(LOOK),
    "GET /libraries/{slug}/orphans": Entry(LOOK),
    "GET /libraries/{slug}/orphans/{backup_id}/content": Entry(LOOK),
    "POST /libraries/{slug}/orphans/{backup_id}/restore": Entry(TREAT, lambda _: {}),
    "POST /libraries/{slug}/reattach": Entry(ADMINISTER, lambda _: {"confirm": "no"}),
    "GET /libraries/{slug}/page-faults": Entry(LOOK),
    "POST /libraries/{slug}/page-files": Entry(LOOK, lambda _: {"paths": ["a.jpg"]}),
    "POST /libraries/{slug}/page": Entry(LOOK, lambda _: b"<p>"),
    "GET /libraries/{slug}/server-rules/{server}": Entry(LOOK),
    "POST /libraries/{slug}/asking": Entry(TREAT, lambda _: {"path": "a.jpg"}),
    "GET /libraries/{slug}/purges": Entry(LOOK),
    "GET /libraries/{slug}/traffic": Entry(LOOK),
    "GET /libraries/{slug}/traffic/log": Entry(LOOK, query=lambda _: {"log": "0" * 16}),
    "POST /libraries/{slug}/traffic/log": Entry(TREAT, lambda _: {}),
    "POST /libraries/{slug}/weighings": Entry(TREAT, lambda _: {"addresses": []}),
    "GET /libraries/{slug}/site-pages": Entry(LOOK),
    "PUT /libraries/{slug}/site-pages": Entry(
        TREAT, lambda _: {}, query=lambda _: {"address": "https://ledge.example/"}
    ),
    "GET /site-pages/{page_id}": Entry(LOOK),
    "DELETE /site-pages/{page_id}": Entry(TREAT),
    "GET /site-pages/{page_id}/weighings": Entry(LOOK),
    "GET /site-pages/{page_id}/history": Entry(LOOK),
    "GET /weighings/{weighing_id}": Entry(LOOK),
    "GET /libraries/{slug}/shots/{shot_id}": Entry(LOOK),
    "POST /weighings/{weighing_id}/run": Entry(TREAT, lambda _: {}),
    "POST /weighings/{weighing_id}/needs": Entry(TREAT, lambda _: {"device": "phone", "number": 1}),
    "GET /libraries/{slug}/allowance": Entry(LOOK),
    "POST /libraries/{slug}/site-files": Entry(LOOK, lambda _: {"paths": ["a.jpg"]}),
    "GET /libraries/{slug}/mapping": Entry(LOOK),
    "PUT /libraries/{slug}/mapping": Entry(ADMINISTER, lambda _: b"{}"),
    "POST /libraries/{slug}/resemblances": Entry(TREAT),
    "POST /libraries/{slug}/word-readings": Entry(MEND),
    "GET /libraries/{slug}/descriptions": Entry(LOOK),
    "GET /libraries/{slug}/descriptions/summary": Entry(LOOK),
    "GET /libraries/{slug}/descriptions/csv": Entry(LOOK),
    "PUT /libraries/{slug}/descriptions/csv": Entry(MEND, lambda _: b"path,alternative"),
    "GET /libraries/{slug}/descriptions/xliff": Entry(LOOK, query=lambda _: {"source": "en", "target": "de"}),
    "PUT /libraries/{slug}/descriptions/xliff": Entry(
        MEND, lambda _: b'<xliff xmlns="urn:oasis:names:tc:xliff:document:2.0" trgLang="de"/>'
    ),
    "POST /libraries/{slug}/descriptions/change": Entry(
        MEND, lambda _: {"language": "en", "which": {}, "deed": {"do": "mark", "decorative": True}}
    ),
    "GET /libraries/{slug}/description-changes": Entry(LOOK),
    "POST /libraries/{slug}/description-changes/{change_id}/undo": Entry(MEND),
    "GET /libraries/{slug}/description-settings": Entry(LOOK),
    "PUT /libraries/{slug}/description-settings": Entry(ADMINISTER, lambda _: {"languages": ["en"]}),
    "GET /libraries/{slug}/search-terms": Entry(LOOK),
    "PUT /libraries/{slug}/search-terms": Entry(MEND, lambda _: b"term,count\nlamp,3\n"),
    "GET /pictures/{picture_id}/descriptions": Entry(LOOK),
    "PUT /pictures/{picture_id}/descriptions/{language}": Entry(MEND, lambda _: {"title": "Lamp"}),
    "GET /libraries/{slug}/proposals": Entry(LOOK),
    "POST /libraries/{slug}/proposals": Entry(ADMINISTER, lambda _: {"folder": "2025", "accept": False}),
    "PUT /libraries/{slug}/allowance": Entry(SERVICE),
    "GET /libraries/{slug}/webhooks": Entry(ADMINISTER),
    "POST /libraries/{slug}/webhooks": Entry(ADMINISTER, lambda _: {"address": "https://ledge.example/"}),
    "GET /libraries/{slug}/webhooks/{webhook_id}": Entry(ADMINISTER),
    "PUT /libraries/{slug}/webhooks/{webhook_id}": Entry(
        ADMINISTER, lambda _: {"address": "https://ledge.example/"}
    ),
    "POST /libraries/{slug}/webhooks/{webhook_id}/secret": Entry(ADMINISTER),
    "POST /libraries/{slug}/webhooks/{webhook_id}/messages/{message}/redelivery": Entry(ADMINISTER),
    "POST /libraries/{slug}/webhooks/{webhook_id}/trial": Entry(ADMINISTER),
    "DELETE /libraries/{slug}/webhooks/{webhook_id}": Entry(ADMINISTER),
    "GET /libraries/{slug}/report": Entry(LOOK),
    "GET /libraries/{slug}/report/{form}": Entry(LOOK),
    "GET /libraries/{slug}/report-settings": Entry(LOOK),
    "PUT /libraries/{slug}/report-settings": Entry(ADMINISTER, lambda _: {"client": "Ledge"}),
    "GET /libraries/{slug}/reports": Entry(LOOK),
    "POST /libraries/{slug}/reports": Entry(ADMINISTER, lambda _: {"month": "2026-06"}),
    "GET /libraries/{slug}/reports/{month}/{form}": Entry(LOOK),
    "GET /libraries/{slug}/sizes": Entry(LOOK),
    "GET /libraries/{slug}/sizes/{name}": Entry(LOOK),
    "PUT /libraries/{slug}/sizes/{name}": Entry(ADMINISTER, lambda _: {"width": 300}),
    "DELETE /libraries/{slug}/sizes/{name}": Entry(ADMINISTER),
    "POST /libraries/{slug}/sizes/{name}/effect": Entry(LOOK, lambda _: {"settings": {"width": 300}}),
    "POST /libraries/{slug}/ladder": Entry(LOOK, lambda _: {}),
    "GET /libraries/{slug}/unused-sizes": Entry(LOOK),
    "POST /libraries/{slug}/unused-sizes/remove": Entry(ADMINISTER, lambda _: {"days": 30}),
    "POST /libraries/{slug}/unused-sizes/bring-back": Entry(ADMINISTER, lambda _: {}),
    "GET /pictures/{picture_id}/cuts": Entry(LOOK),
    "PUT /pictures/{picture_id}/focus": Entry(MEND, lambda _: {"focus": {"x": 0.5, "y": 0.5}}),
    "POST /libraries/{slug}/near-duplicate-searches": Entry(TREAT),
    "GET /libraries/{slug}/near-duplicates": Entry(LOOK),
    "PUT /pictures/{picture_id}/kept-apart": Entry(TREAT, lambda _: {"apart": True}),
    "PUT /pictures/{picture_id}/redirect": Entry(
        TREAT, lambda place: {"picture_id": place.numbers["picture_id"]}
    ),
    "DELETE /pictures/{picture_id}/redirect": Entry(TREAT),
    "GET /pictures/{picture_id}/touches": Entry(LOOK),
    "PUT /pictures/{picture_id}/touches": Entry(MEND, lambda _: {"steps": []}),
    "POST /libraries/{slug}/touches": Entry(
        TREAT, lambda place: {"pictures": [place.numbers["picture_id"]], "steps": [{"kind": "grey"}]}
    ),
    "POST /pictures/{picture_id}/view": Entry(LOOK, lambda _: {"steps": [], "whole": True}),
    "GET /libraries/{slug}/watermarks": Entry(LOOK),
    "GET /libraries/{slug}/watermarks/{name}": Entry(LOOK),
    "PUT /libraries/{slug}/watermarks/{name}": Entry(ADMINISTER, lambda _: {"words": "Ledge"}),
    "DELETE /libraries/{slug}/watermarks/{name}": Entry(ADMINISTER),
    "PUT /libraries/{slug}/watermarks/{name}/picture": Entry(ADMINISTER, lambda _: b"no picture"),
    "GET /libraries/{slug}/watermarks/{name}/picture": Entry(LOOK),
    "GET /libraries/{slug}/needs": Entry(LOOK),
    "DELETE /libraries/{slug}/needs/{need_id}": Entry(TREAT),
}


def operations() -> list[str]:
    """Every operation of the interface's description, as ``METHOD /path``."""
    app = create_app(Settings(database_url="postgresql://nowhere/x", state_dir=Path("/nowhere")))
    return [
        f"{method.upper()} {path.removeprefix('/api/v1')}"
        for path, described in app.openapi()["paths"].items()
        for method in described
    ]


@dataclass
class World:
    """A service with two libraries, ``ledge`` and another's, and callers who belong to the first."""

    service: Service
    own: Place
    other: Place
    absent: Place
    callers: dict[str, httpx.Client]
    abilities: dict[str, frozenset[Ability]]

    def fresh(self, place: Place) -> Place:
        """The same with things that an operation may take away, made anew."""
        if place is self.absent:
            return place
        return Place(place.slug, place.numbers | things_of(self.service.database_url, place))


def shown_there() -> Reading:
    """A page that shows a picture of the other library."""
    spread = Spread(median=1, low=1, high=1)
    picture = PagePicture(
        number=1,
        address="https://cdn.example/1",
        how="img",
        format="jpeg",
        bytes=1,
        natural_width=1,
        natural_height=1,
        needed_width=1,
        needed_height=1,
        box=Box(left=0, top=0, width=1, height=1),
        first_view=True,
        lazy=False,
        stated=True,
        library="other-firm",
        path="hidden-otter.jpg",
        file_id=2,
        picture_id=2,
        form="file",
        untreated=True,
    )
    return Reading(
        device=Device.PHONE,
        line=Line.MOBILE,
        processor=Processor.SLOW,
        passes=1,
        landed="https://x.example/",
        bytes=spread,
        first_bytes=spread,
        requests=spread,
        pictures=[picture],
        kinds=[],
        width=1,
        height=1,
    )


def things_of(url: str, place: Place) -> dict[str, int]:
    """Rows that belong to a library, made without anybody's right."""
    mark = "hidden-otter" if place.slug == "other-firm" else "gannet"
    number = place.numbers["library_id"]

    def made(statement: str, *values: Any) -> int:
        row = session.execute(f"{statement} RETURNING id", values).fetchone()
        assert row is not None
        return int(row[0])

    with psycopg.connect(url, autocommit=True) as session:
        run = made(
            "INSERT INTO runs (library_id, kind, origin, state, scope, variants, force, overwrite, priority,"
            " files, done, passed, failed, already, left_out, elsewhere, bytes_before, bytes_after,"
            " bytes_lightest, megapixels, megapixels_done) VALUES (%s, 'restore', 'person', 'paused', '{}',"
            " '[]', false, false, 0, 1, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0)",
            number,
        )
        session.execute("UPDATE runs SET state = 'finished' WHERE library_id = %s AND id < %s", [number, run])
        job = made(
            "INSERT INTO jobs (library_id, kind, state, request, report, by)"
            " VALUES (%s, 'weighing', 'waiting', '{}', '{}', %s)",
            number,
            mark,
        )
        page = made(
            "INSERT INTO site_pages (library_id, address) VALUES (%s, %s)",
            number,
            f"https://{mark}.example/{run}",
        )
        weighing = made(
            "INSERT INTO weighings (library_id, page_id, kind, origin, by, report)"
            " VALUES (%s, %s, 'real', 'person', %s, %s)",
            number,
            page,
            mark,
            json.dumps({"readings": [shown_there().model_dump(mode="json")]}),
        )
        shot = made(
            "INSERT INTO shots (weighing_id, device, part, width, height, scale, data)"
            " VALUES (%s, 'phone', 'first', 1, 1, 1, 'x')",
            weighing,
        )
        need = made(
            "INSERT INTO needed_sizes (library_id, picture_id, width, height, page)"
            " VALUES (%s, %s, %s, 5, %s)",
            number,
            place.numbers["picture_id"],
            run,
            mark,
        )
        session.execute(
            "INSERT INTO descriptions (picture_id, language, library_id, alternative, title, caption, credit,"
            " decorative, version, by) VALUES (%s, 'en', %s, %s, '', '', '', false, 1, %s)"
            " ON CONFLICT DO NOTHING",
            [place.numbers["picture_id"], number, mark, mark],
        )
        session.execute(
            "INSERT INTO search_terms VALUES (%s, %s, 1, ARRAY[%s]) ON CONFLICT DO NOTHING",
            [number, mark, mark],
        )
        change = made(
            "INSERT INTO description_changes (library_id, language, what, pictures, by)"
            " VALUES (%s, 'en', %s, 1, %s)",
            number,
            mark,
            mark,
        )
        backup = made(
            "INSERT INTO backups (library_id, sha256, size, path, born_day) VALUES (%s, %s, 1, %s, 0)",
            number,
            run.to_bytes(32),
            f"{mark}.jpg",
        )
        person = made(
            "INSERT INTO people (email, name, password_hash) VALUES (%s, %s, '')",
            f"{run}@{mark}.example",
            mark,
        )
        session.execute("INSERT INTO person_grants VALUES (%s, %s, 'look')", [person, number])
        invitation = made(
            "INSERT INTO invitations (token_sha256, purpose, email, name, by, expires_at)"
            " VALUES (%s, 'invitation', %s, '', %s, now() + interval '1 day')",
            run.to_bytes(32),
            f"{mark}@x.example",
            mark,
        )
        session.execute("INSERT INTO invitation_grants VALUES (%s, %s, 'look')", [invitation, number])
        key = made(
            "INSERT INTO keys (name, abilities, secret_sha256, all_libraries)"
            " VALUES (%s, '[\"look\"]', %s, false)",
            mark,
            b"k" + run.to_bytes(31),
        )
        session.execute("INSERT INTO key_grants VALUES (%s, %s)", [key, number])
        if place.slug == "other-firm":
            session.execute(
                "UPDATE libraries SET report = %s WHERE id = %s",
                [json.dumps({"client": mark}), number],
            )
        session.execute(
            "INSERT INTO kept_reports (library_id, month, pdf, csv) VALUES (%s, '2026-06', %s, %s)"
            " ON CONFLICT DO NOTHING",
            [number, mark.encode(), mark.encode()],
        )
        session.execute("DELETE FROM webhooks WHERE library_id = %s", [number])
        webhook = made(
            "INSERT INTO webhooks (library_id, address, events) VALUES (%s, %s, '[]')",
            number,
            f"https://{mark}.example/",
        )
        session.execute(
            "INSERT INTO outgoing_messages (webhook_id, message_id, type, data, said)"
            " VALUES (%s, %s, 'webhook.trial', '{}', %s)",
            [webhook, f"{mark}-{run}", mark],
        )
    return {
        "run_id": run,
        "job_id": job,
        "page_id": page,
        "weighing_id": weighing,
        "shot_id": shot,
        "need_id": need,
        "webhook_id": webhook,
        "backup_id": backup,
        "change_id": change,
        "person_id": person,
        "invitation_id": invitation,
        "key_id": key,
    }


def signed_in(service: Service, email: str, role: Role | None) -> httpx.Client:
    """A browser of a person with a role in ``ledge``, come in by an invitation."""
    if role is None:
        link = service.client.invitations.invite(
            InvitationRequest(email=email, grants=[Grant(library="ledge", role=Role.LOOK)])
        )
    else:
        link = service.client.invitations.invite_member("ledge", MemberInvitation(email=email, role=role))
    browser = httpx.Client(base_url=f"{service.url}/api/v1", timeout=60)
    joining = Joining(token=link.link.partition("#")[2], password="a lamp in every window")
    answer = browser.post("/joining", json=joining.model_dump(exclude_none=True))
    assert answer.status_code == 201, answer.text
    if role is None:
        member = next(one for one in service.client.members.page("ledge") if one.email == email)
        service.client.members.remove("ledge", member.id)
    return browser


@pytest.fixture(scope="module")
def world(postgres: Postgres, tmp_path_factory: pytest.TempPathFactory) -> Iterator[World]:
    home = tmp_path_factory.mktemp("separate")
    photograph(home / "site/gannet.jpg")
    photograph(home / "secretfolder/hidden-otter.jpg")
    with postgres.fresh() as url, running_service(url, home / "state") as running:
        client = running.client
        running.start_worker()
        client.libraries.connect(LibraryRequest(name="Ledge", root=str(home / "site"), slug="ledge"))
        client.libraries.connect(
            LibraryRequest(name="Otherwise Ltd", root=str(home / "secretfolder"), slug="other-firm")
        )
        places = []
        for slug in ("ledge", "other-firm"):
            client.jobs.wait(client.jobs.survey(slug).id)
            picture = client.pictures.get(client.pictures.page(slug).rows[0].id)
            with psycopg.connect(url) as session:
                row = session.execute("SELECT id FROM libraries WHERE slug = %s", [slug]).fetchone()
            assert row is not None
            places.append(
                Place(
                    slug,
                    {"library_id": row[0], "picture_id": picture.id, "file_id": picture.all_files[0].id},
                )
            )
        running.kill("worker")
        client.invitations.invite_member(
            "other-firm", MemberInvitation(email="rival@other.example", role=Role.LOOK)
        )
        client.keys.make_for_library("other-firm", LibraryKeyRequest(name="otterkey"))
        callers = {f"person {role}": signed_in(running, f"{role}@ledge.example", role) for role in Role} | {
            "person of nothing": signed_in(running, "nobody@ledge.example", None)
        }
        abilities = {f"person {role}": ROLES[role] for role in Role} | {
            "person of nothing": frozenset[Ability]()
        }
        for held in (frozenset({LOOK}), frozenset({LOOK, UPLOAD}), frozenset(Ability)):
            name = "key " + ", ".join(sorted(held))
            made = client.keys.make(KeyRequest(name=name, abilities=list(held), libraries=["ledge"]))
            headers = {"Authorization": f"Bearer {made.secret}"}
            callers[name] = httpx.Client(base_url=f"{running.url}/api/v1", headers=headers, timeout=60)
            abilities[name] = held
        absent = Place(
            "nowhere",
            dict.fromkeys(
                (
                    "run_id",
                    "job_id",
                    "page_id",
                    "weighing_id",
                    "shot_id",
                    "need_id",
                    "webhook_id",
                    "backup_id",
                    "change_id",
                    "person_id",
                    "invitation_id",
                    "key_id",
                    "picture_id",
                    "file_id",
                    "session_id",
                ),
                ABSENT,
            ),
        )
        yield World(running, places[0], places[1], absent, callers, abilities)
        for caller in callers.values():
            caller.close()


def ask(caller: httpx.Client, operation: str, place: Place) -> httpx.Response:
    method, path = operation.split(" ")
    entry = ENTRIES[operation]
    words = {
        "slug": place.slug,
        "path": "new.jpg",
        "server": "nginx",
        "name": "card",
        "form": "csv",
        "month": "2026-06",
        "language": "en",
        "action": "pause",
        "session_id": ABSENT,
        "message": "msg_none",
        "upload": "none",
    }
    for name in re.findall(r"{(\w+)}", path):
        path = path.replace(f"{{{name}}}", str((words | place.numbers)[name]))
    body = entry.body(place) if entry.body else None
    query = entry.query(place) if entry.query else None
    if isinstance(body, bytes):
        return caller.request(method, path, content=body, params=query)
    return (
        caller.request(method, path, json=body, params=query)
        if body is not None
        else caller.request(method, path, params=query)
    )


def alike(answer: httpx.Response, place: Place) -> tuple[int, str]:
    """An answer without the words that were asked with."""
    text = answer.text.replace(place.slug, "<slug>")
    for number in place.numbers.values():
        text = re.sub(rf"\b{number}\b", "<number>", text)
    return answer.status_code, text


def test_every_operation_has_its_entry() -> None:
    assert sorted(operations()) == sorted(ENTRIES), "say in ENTRIES what the new operation needs"


def names_a_library(operation: str) -> bool:
    entry = ENTRIES[operation]
    return bool(re.search(r"{(slug|run_id|job_id|picture_id|file_id|page_id|weighing_id)}", operation)) or (
        operation in ("POST /runs", "GET /runs") and entry.needs is not SERVICE
    )


def some(callers: dict[str, httpx.Client], operation: str, whole: bool) -> list[tuple[str, httpx.Client]]:
    """Everybody; in the standard run a third, another one for each operation, so that all have their turn."""
    everybody = list(callers.items())
    return everybody if whole else everybody[list(ENTRIES).index(operation) % 3 :: 3]


#: Looked at by themselves: a stream has no end, and who signs out everywhere is no caller any more.
BY_THEMSELVES = ("GET /events", "DELETE /me/sessions", "DELETE /session")


@pytest.mark.parametrize("operation", [name for name in ENTRIES if name not in BY_THEMSELVES])
def test_another_library_is_as_one_that_is_not_there(world: World, operation: str, whole: bool) -> None:
    entry = ENTRIES[operation]
    stranger = httpx.Client(base_url=f"{world.service.url}/api/v1")
    if entry.needs is not OPEN:
        assert ask(stranger, operation, world.fresh(world.own)).status_code == 401
    for name, caller in some(world.callers, operation, whole):
        held = world.abilities[name]
        theirs = ask(caller, operation, world.fresh(world.other))
        missing = ask(caller, operation, world.absent)
        assert not [mark for mark in MARKS if mark in theirs.text.replace("no library called other-firm", "")]
        own = ask(caller, operation, world.fresh(world.own))
        assert not [mark for mark in MARKS if mark in own.text], name
        assert 500 not in (own.status_code, theirs.status_code)
        if entry.needs is SERVICE:
            assert own.status_code == theirs.status_code == 403, name
            continue
        if entry.needs is MYSELF:
            assert (own.status_code == 403) == name.startswith("key"), name
            continue
        if not isinstance(entry.needs, Ability):
            continue
        if names_a_library(operation):
            other = Place(world.other.slug, world.other.numbers)
            # What stands in the address may be echoed; nothing else may differ.
            assert theirs.status_code == missing.status_code, (name, theirs.text)
            # Who may not do it anywhere is told so, whatever the body names.
            known = operation == "POST /runs" and entry.needs not in held
            assert theirs.status_code == (403 if known else 404), (name, theirs.text)
            if operation.startswith("HEAD"):
                continue  # an answer without a body
            assert set(theirs.json()) == set(missing.json())
            assert theirs.json()["type"] == missing.json()["type"]
            assert alike(theirs, other)[1][:20] == alike(missing, world.absent)[1][:20]
        allowed = entry.needs in held
        if allowed:
            assert own.status_code not in (401, 403), (name, own.text)
        elif names_a_library(operation) and not held:
            assert own.status_code == (403 if operation == "POST /runs" else 404), name
        elif entry.needs is not LOOK:
            assert own.status_code == 403, (name, own.text)
    stranger.close()


def test_a_run_takes_no_picture_of_another_library(world: World) -> None:
    caller = world.callers["person treat"]
    scopes = (
        {"pictures": [world.other.numbers["picture_id"]]},
        {"run": world.fresh(world.other).numbers["run_id"]},
        {"run": ABSENT},
        {"pictures": [ABSENT]},
    )
    for scope in scopes:
        answer = caller.post("/runs", json={"library": "ledge", "kind": "restore", "scope": scope})
        assert answer.status_code == 202, answer.text
        assert answer.json()["files"] == 0, scope


def test_what_is_needed_goes_by_what_the_run_does(world: World) -> None:
    picture = world.own.numbers["picture_id"]
    bodies: dict[str, tuple[dict[str, Any], Ability]] = {
        "put one back": ({"kind": "restore", "scope": {"pictures": [picture]}}, MEND),
        "put one back over somebody's change": (
            {"kind": "restore", "scope": {"pictures": [picture]}, "overwrite": True},
            TREAT,
        ),
        "put all back": ({"kind": "restore"}, TREAT),
        "treat": ({"kind": "treat"}, TREAT),
        "hand back": ({"kind": "hand-back", "confirm": "no"}, ADMINISTER),
    }
    for what, (body, needed) in bodies.items():
        for name, caller in world.callers.items():
            answer = caller.post("/runs", json={"library": "ledge", **body})
            expected = needed in world.abilities[name]
            assert (answer.status_code not in (403, 404)) == expected, (what, name, answer.text)
    for level, needed in (("leave", MEND), (None, MEND), ("exact", TREAT), (None, TREAT)):
        for name, caller in world.callers.items():
            if level is None and needed is TREAT and TREAT not in world.abilities[name]:
                continue
            answer = caller.put(f"/pictures/{picture}/override", json={"override": level})
            assert (answer.status_code == 200) == (needed in world.abilities[name]), (level, name)


def test_events_are_of_the_libraries_that_may_be_seen(world: World) -> None:
    heard: list[str] = []
    caller = world.callers["person look"]

    def follow() -> None:
        with caller.stream("GET", "/events", timeout=60) as stream:
            heard.append(str(stream.status_code))
            for line in stream.iter_lines():
                if line.startswith("data"):
                    heard.append(line)
                    if '"ledge"' in line:
                        return

    reader = threading.Thread(target=follow, daemon=True)
    reader.start()
    wait_for(lambda: heard == ["200"])
    for slug in ("other-firm", "ledge"):
        world.service.client.runs.start(RunRequest(library=slug, kind=RunKind.RESTORE))
    reader.join(20)
    assert any('"ledge"' in line for line in heard)
    assert not [mark for mark in MARKS if mark in "".join(heard)]


def test_lists_count_only_what_may_be_seen(world: World) -> None:
    with Client(world.service.url, world.service.key) as all_seeing:
        assert {library.slug for library in all_seeing.libraries.all()} == {"ledge", "other-firm"}
        assert {run.library for run in all_seeing.runs.page()} == {"ledge", "other-firm"}
    for name, caller in world.callers.items():
        slugs = [library["slug"] for library in caller.get("/libraries").json()]
        assert slugs == (["ledge"] if world.abilities[name] else []), name
        assert {run["library"] for run in caller.get("/runs").json()["rows"]} <= {"ledge"}
        access = caller.get("/session").json()["access"]
        assert [one["library"] for one in access] == slugs
        assert {tuple(one["abilities"]) for one in access} == (
            {tuple(one for one in Ability if one in world.abilities[name])} if slugs else set()
        )
    lines = world.callers["person administer"].get("/machine").json()["lines"]
    assert [line["what"] for line in lines if line["what"].startswith("library")] == ["library ledge"]
    assert not any(line["what"] in ("backup store", "database", "workers") for line in lines)
