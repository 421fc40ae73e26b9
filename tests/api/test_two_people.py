"""Whatever two people may change: who changed another version than the one in force changes nothing."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import httpx
import pytest
from conftest import Service, photograph, running_service, surveyed
from databases import Postgres
from sqlalchemy import select

from plumcrate.api.openapi import kept
from plumcrate.contract.libraries import LibraryRequest
from plumcrate.contract.people import MemberInvitation, Role
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.state import StateFolder
from plumcrate.records.database import Database
from plumcrate.records.tables import Library, Picture, SitePage, Webhook

PAGE = "https://ledge.example/"

#: Each with two changes, where its tag is asked for, and where the settings stand in the answer.
CHANGED: dict[str, tuple[dict[str, Any], dict[str, Any], str]] = {
    "PATCH /libraries/{slug}": ({"name": "One"}, {"name": "Two"}, ""),
    "PUT /libraries/{slug}/recipe": ({"level": "lean"}, {"level": "gallery"}, ""),
    "PUT /libraries/{slug}/allowance": ({"amount": 5}, {"amount": 6}, ""),
    "PUT /libraries/{slug}/report-settings": ({"client": "A"}, {"client": "B"}, ""),
    "PUT /libraries/{slug}/webhooks/{webhook_id}": (
        {"address": "https://a.example/x"},
        {"address": "https://b.example/x"},
        "",
    ),
    "PUT /libraries/{slug}/sizes/{name}": ({"width": 300}, {"width": 320}, ""),
    "PUT /libraries/{slug}/watermarks/{name}": ({"words": "Ledge"}, {"words": "Light"}, ""),
    "PUT /libraries/{slug}/people/{person_id}": ({"role": "treat"}, {"role": "edit"}, ""),
    "PATCH /people/{person_id}": ({"name": "Rill"}, {"name": "Kell"}, ""),
    "PUT /libraries/{slug}/site-pages": (
        {"after_runs": True},
        {"after_runs": False},
        "/site-pages/{page_id}",
    ),
    "PUT /pictures/{picture_id}/override": (
        {"override": "lean"},
        {"override": "leave"},
        "/pictures/{picture_id}",
    ),
    "PUT /pictures/{picture_id}/touches": (
        {"steps": [{"kind": "turn", "quarters": 1}]},
        {"steps": []},
        "",
    ),
    "PUT /libraries/{slug}/description-settings": ({"longest": 90}, {"longest": 100}, ""),
}
#: Not among them, and why.
OTHERWISE = {
    "PUT /pictures/{picture_id}/descriptions/{language}": "its tag is the text's version",
    "PUT /libraries/{slug}/overrides": "of many pictures at once",
    "PUT /libraries/{slug}/files/{path}": "an upload: tests/intake",
    "PATCH /libraries/{slug}/uploads/{upload}": "a piece, at a place that it says",
    "PUT /libraries/{slug}/mapping": "a list that replaces what a site said before",
    "PUT /libraries/{slug}/search-terms": "a list that replaces the former",
    "PUT /libraries/{slug}/descriptions/csv": "many texts at once, each against its own version",
    "PUT /libraries/{slug}/descriptions/xliff": "many texts at once, each against its own version",
    "PUT /libraries/{slug}/watermarks/{name}/picture": "bytes",
    "PUT /pictures/{picture_id}/focus": "a point that is set whole",
    "PUT /pictures/{picture_id}/kept-apart": "a flag",
    "PUT /pictures/{picture_id}/redirect": "set whole, and refused where it leads in a ring",
    "PUT /me/password": "needs the former password",
    "PUT /me/second-factor": "needs a code",
}


@pytest.fixture(scope="module")
def service(postgres: Postgres, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    home = tmp_path_factory.mktemp("conditions")
    photograph(home / "site/a.jpg")
    with postgres.fresh() as url, running_service(url, home / "state") as running:
        running.client.libraries.connect(LibraryRequest(name="Ledge", root=str(home / "site")))
        yield running


Ask = Callable[..., httpx.Response]


@pytest.fixture(scope="module")
def numbers(service: Service) -> dict[str, object]:
    """What stands in addresses."""
    database = Database(service.database_url)
    with database.begin() as session:
        library = session.scalars(select(Library)).one()
        page = SitePage(library_id=library.id, address=PAGE)
        webhook = Webhook(library_id=library.id, address=PAGE, events=[])
        session.add_all([page, webhook])
        session.flush()
    surveyed(database, Keeper.of(database, library, StateFolder(database, service.state)))
    link = service.client.invitations.invite_member(
        "ledge", MemberInvitation(email="kell@x.example", role=Role.LOOK)
    )
    joining = {"token": link.link.partition("#")[2], "password": "a lamp in every window"}
    assert httpx.post(f"{service.url}/api/v1/joining", json=joining).status_code == 201
    person = next(one for one in service.client.members.page("ledge") if one.email == "kell@x.example")
    with database.begin() as session:
        picture = session.scalars(select(Picture.id)).one()
    database.close()
    return {
        "slug": "ledge",
        "name": "card",
        "person_id": person.id,
        "page_id": page.id,
        "webhook_id": webhook.id,
        "picture_id": picture,
    }


@pytest.fixture
def ask(service: Service, numbers: dict[str, object]) -> Ask:
    def asked(operation: str, body: object = None, tag: str | None = None) -> httpx.Response:
        method, _, path = operation.partition(" ")
        headers = {"Authorization": f"Bearer {service.key}"} | ({"If-Match": tag} if tag is not None else {})
        query = {"address": PAGE} if operation == "PUT /libraries/{slug}/site-pages" else None
        address = f"{service.url}/api/v1{path.format(**numbers)}"
        return httpx.request(method, address, json=body, params=query, headers=headers, timeout=60)

    return asked


def test_everything_that_is_changed_is_in_one_of_the_lists() -> None:
    changing = {
        f"{method.upper()} {path.removeprefix('/api/v1')}"
        for path, operations in kept()["paths"].items()
        for method, operation in operations.items()
        if method in ("put", "patch")
    }
    assert changing == CHANGED.keys() | OTHERWISE.keys()


@pytest.mark.parametrize("operation", CHANGED)
def test_what_somebody_changed_meanwhile_is_not_overwritten(ask: Ask, operation: str) -> None:
    one, two, elsewhere = CHANGED[operation]
    told = f"GET {elsewhere or operation.partition(' ')[2]}"
    first = ask(operation, one, "*" if operation.endswith("recipe") else None)
    assert first.status_code == 200, first.text
    mine = ask(told).headers["etag"]
    assert first.headers["etag"] == mine, "the answer bears the new tag"
    theirs = ask(operation, two, mine)
    assert theirs.status_code == 200, theirs.text
    assert theirs.headers["etag"] == ask(told).headers["etag"] != mine
    refused = ask(operation, one, mine)
    assert refused.status_code == 412
    problem = refused.json()
    assert problem["type"].endswith("changed-meanwhile")
    assert problem["by"] in problem["detail"], "whose the present one is"
    assert problem["tag"] == theirs.headers["etag"]
    assert {name: problem["current"][name] for name in two} == two, "what it says"
    assert ask(told).headers["etag"] == theirs.headers["etag"], "nothing was changed"
    assert ask(operation, one, problem["tag"]).status_code == 200


@pytest.mark.parametrize("tag", ['W/"1"', '"0"', "x", '"' + "a" * 150 + '"', '"1", "2"', ""])
def test_tags_of_something_else_fit_nothing(ask: Ask, tag: str) -> None:
    assert ask("PUT /libraries/{slug}/allowance", {"amount": 9}, tag).status_code == 412


def test_a_recipe_is_not_saved_blindly(ask: Ask) -> None:
    refused = ask("PUT /libraries/{slug}/recipe", {"level": "lean"})
    assert refused.status_code == 428
    assert refused.json()["type"].endswith("precondition-required")


def test_of_many_at_the_same_moment_one_changes_it(ask: Ask) -> None:
    operation = "PUT /libraries/{slug}/allowance"
    tag = ask("GET /libraries/{slug}/allowance").headers["etag"]
    with ThreadPoolExecutor(6) as pool:
        answers = list(pool.map(lambda n: ask(operation, {"amount": 100 + n}, tag), range(6)))
    assert sorted(answer.status_code for answer in answers) == [200] + [412] * 5
