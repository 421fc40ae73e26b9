"""People, links, second factors and keys, through HTTP: what works, and what a stranger may try."""

import contextlib
import json
import re
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import httpx
import psycopg
import pyotp
import pytest
from conftest import EMAIL, PASSWORD, Service, photograph, running_service
from databases import Postgres

from plumcrate.client import Client, ProblemError
from plumcrate.contract.libraries import LibraryRequest
from plumcrate.contract.people import (
    Ability,
    Grant,
    InvitationRequest,
    KeyRequest,
    LibraryKeyRequest,
    MemberInvitation,
    NewInvitation,
    PersonChange,
    Role,
    Rotation,
)
from plumcrate.people import tokens
from plumcrate.people.invitations import set_up
from plumcrate.records.database import Database

NEW = "the tide is out at noon"


@pytest.fixture(scope="module")
def service(postgres: Postgres, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    home = tmp_path_factory.mktemp("people")
    photograph(home / "site/a.jpg")
    mail = {"PLUMCRATE_MAIL_COMMAND": json.dumps(["tee", str(home / "mail")])}
    with postgres.fresh() as url, running_service(url, home / "state", environment=mail) as running:
        running.client.libraries.connect(LibraryRequest(name="Ledge", root=str(home / "site"), slug="ledge"))
        yield running


def browser(service: Service) -> httpx.Client:
    return httpx.Client(base_url=f"{service.url}/api/v1", timeout=60)


def code_of(answer: httpx.Response) -> str:
    return str(answer.json()["type"]).rpartition(":")[2]


def token_of(link: NewInvitation) -> str:
    return link.link.partition("#")[2]


def sign_in(
    service: Service, email: str = EMAIL, password: str = PASSWORD, code: str | None = None
) -> httpx.Client:
    one = browser(service)
    answer = one.post("/session", json={"email": email, "password": password, "code": code})
    assert answer.status_code == 200, answer.text
    return one


def newcomer(service: Service, email: str, role: Role = Role.TREAT) -> httpx.Client:
    """Somebody who came in by a link."""
    link = service.client.invitations.invite_member("ledge", MemberInvitation(email=email, role=role))
    one = browser(service)
    answer = one.post("/joining", json={"token": token_of(link), "password": NEW})
    assert answer.status_code == 201, answer.text
    return one


def test_no_link_is_mailed_while_nobody_said_where_the_service_is(service: Service) -> None:
    """The address that a request names could lead anywhere."""
    asked = {"email": "far@ledge.example", "role": "look"}
    headers = {"Authorization": f"Bearer {service.key}", "Host": "evil.example"}
    made = browser(service).post("/libraries/ledge/invitations", json=asked, headers=headers).json()
    assert (made["mailed"], (service.state.parent / "mail").exists()) == (False, False)
    assert "PLUMCRATE_ADDRESS" in made["mail_fault"]
    del headers["Host"]
    back = browser(service).delete(f"/libraries/ledge/invitations/{made['id']}", headers=headers)
    assert back.status_code == 204


def test_a_page_of_another_site_signs_nobody_in(service: Service) -> None:
    foreign = {"Origin": "http://evil.example"}
    one = browser(service)
    answer = one.post("/session", json={"email": EMAIL, "password": PASSWORD}, headers=foreign)
    assert (answer.status_code, code_of(answer)) == (403, "foreign-origin")
    assert not one.cookies
    joined = one.post("/joining", json={"token": "x", "password": NEW}, headers=foreign)
    assert code_of(joined) == "foreign-origin"


# -- links -----------------------------------------------------------------------------------------


def test_a_link_lets_in_once(service: Service) -> None:
    asked = MemberInvitation(email="Mate@Ledge.example", name="The mate", role=Role.EDIT)
    link = service.client.invitations.invite_member("ledge", asked)
    assert link.link.startswith(f"{service.url}/join#")
    offer = browser(service).post("/joining/offer", json={"token": token_of(link)}).json()
    assert (offer["email"], offer["libraries"]) == ("mate@ledge.example", ["Ledge"])
    one = browser(service)
    joined = one.post("/joining", json={"token": token_of(link), "password": NEW})
    assert joined.json()["access"] == [
        {"library": "ledge", "role": "edit", "abilities": ["look", "mend", "upload"]}
    ]
    assert one.get("/session").json()["name"] == "The mate", "who joined is signed in"
    again = browser(service).post("/joining", json={"token": token_of(link), "password": NEW})
    assert (again.status_code, code_of(again)) == (404, "no-invitation")
    assert [one.email for one in service.client.members.page("ledge")] == ["mate@ledge.example"]
    assert service.client.invitations.page("ledge").rows == []


def test_of_many_who_open_a_link_at_once_one_comes_in(service: Service) -> None:
    link = service.client.invitations.invite_member(
        "ledge", MemberInvitation(email="raced@ledge.example", role=Role.LOOK)
    )

    def take(number: int) -> int:
        body = {"token": token_of(link), "password": f"{NEW} {number}"}
        return browser(service).post("/joining", json=body).status_code

    with ThreadPoolExecutor(8) as pool:
        answers = sorted(pool.map(take, range(8)))
    assert answers[0] == 201
    assert set(answers[1:]) <= {404, 429, 503}


def test_an_account_that_is_there_is_added_to_after_its_password(service: Service, tmp_path: Path) -> None:
    newcomer(service, "two-ledges@ledge.example")
    photograph(tmp_path / "second/a.jpg")
    service.client.libraries.connect(
        LibraryRequest(name="Second", root=str(tmp_path / "second"), slug="second")
    )
    asked = MemberInvitation(email="two-ledges@ledge.example", role=Role.LOOK)
    link = service.client.invitations.invite_member("second", asked)
    known = {"email", "name", "purpose", "grants"}
    stranger = service.client.invitations.invite_member(
        "second", MemberInvitation(email="new@x.example", role=Role.LOOK)
    )
    assert link.model_dump(include=known).keys() == stranger.model_dump(include=known).keys()
    assert not hasattr(link, "known"), "who invites is not told whether there is an account"
    one = browser(service)
    own, other = (
        one.post("/joining/offer", json={"token": token_of(each)}).json() | {"email": "", "expires_at": ""}
        for each in (link, stranger)
    )
    assert own == other, "what a link offers does not tell either"
    wrong = one.post("/joining", json={"token": token_of(link), "password": "a stranger's guess"})
    assert (wrong.status_code, code_of(wrong)) == (401, "wrong-sign-in")
    right = one.post("/joining", json={"token": token_of(link), "password": NEW})
    assert {one["library"]: one["role"] for one in right.json()["access"]} == {
        "ledge": "treat",
        "second": "look",
    }


def test_links_that_open_nothing(service: Service) -> None:
    taken_back = service.client.invitations.invite(
        InvitationRequest(email="gone@ledge.example", grants=[Grant(library="ledge", role=Role.LOOK)])
    )
    service.client.invitations.take_back(taken_back.id)
    expired = service.client.invitations.invite_member(
        "ledge", MemberInvitation(email="late@x.example", role=Role.LOOK)
    )
    with psycopg.connect(service.database_url) as session:
        session.execute("UPDATE invitations SET expires_at = now() WHERE id = %s", [expired.id])
    answers = []
    for token in (token_of(taken_back), token_of(expired), tokens.new_token(), "", "x" * 200):
        for path, more in (("/joining/offer", {}), ("/joining", {"password": NEW})):
            answers.append(browser(service).post(path, json={"token": token, **more}))
    assert {(answer.status_code, code_of(answer)) for answer in answers} == {(404, "no-invitation")}
    weak = service.client.invitations.invite_member(
        "ledge", MemberInvitation(email="weak@x.example", role=Role.LOOK)
    )
    short = browser(service).post("/joining", json={"token": token_of(weak), "password": "short"})
    assert (short.status_code, code_of(short)) == (422, "weak-password")
    assert token_of(weak) not in (service.state / "service.log").read_text()


def test_the_set_up_link_makes_the_first_administrator_once(postgres: Postgres, tmp_path: Path) -> None:
    with postgres.fresh() as url:
        database = Database(url)
        with database.begin() as session:
            former = set_up(session)
        with running_service(url, tmp_path / "state", nobody=True) as running:
            log = (tmp_path / "state/service.log").read_text()
            found = re.search(r"http://\S+/join#([\w-]+)", log)
            assert found, log
            token = found[1]
            assert former != token
            stale = browser(running).post("/joining/offer", json={"token": former})
            assert stale.status_code == 404, "only the newest link opens"
            offer = browser(running).post("/joining/offer", json={"token": token}).json()
            assert (offer["purpose"], offer["email"], offer["service"]) == ("set-up", "", True)
            without = browser(running).post("/joining", json={"token": token, "password": NEW})
            assert without.status_code == 422

            def take(number: int) -> int:
                body = {"token": token, "password": NEW, "email": f"k{number}@ledge.example"}
                return browser(running).post("/joining", json=body).status_code

            with ThreadPoolExecutor(6) as pool:
                answers = sorted(pool.map(take, range(6)))
            assert answers[0] == 201
            assert set(answers[1:]) <= {404, 429, 503}
            with psycopg.connect(url) as records:
                assert records.execute("SELECT count(*), bool_and(service) FROM people").fetchone() == (
                    1,
                    True,
                )
            with database.begin() as session:
                assert set_up(session) is None, "once somebody is there, no start makes another link"
        database.close()


def test_a_new_password_by_link(service: Service) -> None:
    former = newcomer(service, "forgot@ledge.example")
    person = next(one for one in service.client.people.page() if one.email == "forgot@ledge.example")
    stale, link = service.client.people.new_password(person.id), service.client.people.new_password(person.id)
    assert browser(service).post("/joining/offer", json={"token": token_of(stale)}).status_code == 404
    body = {"token": token_of(link), "password": "another tide entirely"}
    assert browser(service).post("/joining", json=body).status_code == 201
    assert former.get("/session").json() is None, "browsers that were signed in are signed out"
    sign_in(service, "forgot@ledge.example", "another tide entirely")


# -- one's own account -----------------------------------------------------------------------------


def test_sessions_are_listed_and_ended(service: Service) -> None:
    here = newcomer(service, "many@ledge.example")
    there = sign_in(service, "many@ledge.example", NEW)
    listed = here.get("/me/sessions").json()
    assert len(listed) == 2
    assert [one["current"] for one in listed].count(True) == 1
    other = next(one for one in listed if not one["current"])
    assert other["address"] == "127.0.0.1"
    assert "httpx" in other["browser"]
    assert here.delete(f"/me/sessions/{other['id']}").status_code == 204
    assert there.get("/session").json() is None
    strange = sign_in(service)
    mine = strange.get("/me/sessions").json()[0]["id"]
    assert here.delete(f"/me/sessions/{mine}").status_code == 404, "another's session is nobody's business"
    assert strange.get("/session").json() is not None
    assert here.delete("/me/sessions").status_code == 204
    assert here.get("/session").json() is None


def test_a_changed_password_ends_other_sessions_and_renews_this_one(service: Service) -> None:
    here = newcomer(service, "change@ledge.example")
    there = sign_in(service, "change@ledge.example", NEW)
    former = here.cookies.get("plumcrate_session")
    wrong = here.put("/me/password", json={"current": "not this one", "new": "a brand new tide"})
    assert (wrong.status_code, code_of(wrong)) == (409, "wrong-password")
    assert here.put("/me/password", json={"current": NEW, "new": "short"}).status_code == 422
    assert here.put("/me/password", json={"current": NEW, "new": "a brand new tide"}).status_code == 204
    assert here.cookies.get("plumcrate_session") != former
    assert here.get("/session").json() is not None
    assert there.get("/session").json() is None
    stolen = httpx.get(f"{service.url}/api/v1/session", cookies={"plumcrate_session": former or ""})
    assert stolen.json() is None


def test_a_session_that_was_foisted_on_a_browser_is_not_taken_over(service: Service) -> None:
    attacker = newcomer(service, "attacker@ledge.example")
    planted = attacker.cookies.get("plumcrate_session") or ""
    newcomer(service, "victim@ledge.example")
    victim = httpx.Client(base_url=f"{service.url}/api/v1", cookies={"plumcrate_session": planted})
    answer = victim.post("/session", json={"email": "victim@ledge.example", "password": NEW})
    given = answer.cookies.get("plumcrate_session")
    assert given
    assert given != planted
    after = httpx.get(f"{service.url}/api/v1/session", cookies={"plumcrate_session": planted})
    assert after.json() is None, "the planted session has ended, and is nobody's"


def test_a_second_factor_and_its_replay(service: Service) -> None:
    here = newcomer(service, "careful@ledge.example")
    offer = here.post("/me/second-factor", json={"password": NEW}).json()
    assert offer["image"].startswith("<svg")
    totp = pyotp.parse_uri(offer["address"])
    assert isinstance(totp, pyotp.TOTP)
    assert totp.name == "careful@ledge.example"
    sign_in(service, "careful@ledge.example", NEW)  # an offer is not in force yet
    assert code_of(here.put("/me/second-factor", json={"code": "000000"})) == "wrong-code"
    code = totp.now()
    codes = here.put("/me/second-factor", json={"code": code}).json()["codes"]
    assert len(set(codes)) == 10
    one = browser(service)
    first = one.post("/session", json={"email": "careful@ledge.example", "password": NEW})
    assert (first.status_code, code_of(first)) == (401, "second-factor")
    wrong = one.post("/session", json={"email": "careful@ledge.example", "password": "x" * 12, "code": code})
    assert code_of(wrong) == "wrong-sign-in", "of who does not know the password nothing more is asked"
    replayed = one.post("/session", json={"email": "careful@ledge.example", "password": NEW, "code": code})
    assert code_of(replayed) == "wrong-sign-in", "the code that put it in force was taken already"
    later = totp.at(time.time() + 30)

    def use(_: int) -> int:
        body = {"email": "careful@ledge.example", "password": NEW, "code": later}
        return browser(service).post("/session", json=body).status_code

    with ThreadPoolExecutor(4) as pool:
        assert sorted(pool.map(use, range(4))) == [200, 401, 401, 401]
    assert use(0) == 401
    body = {"email": "careful@ledge.example", "password": NEW, "code": codes[3].lower()}
    assert one.post("/session", json=body).status_code == 200, "a recovery code signs in"
    assert one.post("/session", json=body).status_code == 401, "once"
    with psycopg.connect(service.database_url) as session:
        kept = session.execute(
            "SELECT second_factor FROM people WHERE email = 'careful@ledge.example'"
        ).fetchone()
    assert kept is not None
    assert offer["secret"].encode() not in kept[0]
    assert here.post("/me/second-factor/end", json={"password": "x"}).status_code == 409
    assert here.post("/me/second-factor/end", json={"password": NEW}).status_code == 204
    sign_in(service, "careful@ledge.example", NEW)


# -- who administers -------------------------------------------------------------------------------


def test_somebody_is_always_left_to_administer(postgres: Postgres, tmp_path: Path) -> None:
    with postgres.fresh() as url, running_service(url, tmp_path / "state") as running:
        client = running.client
        (keeper,) = client.people.page()
        for act in (
            lambda: client.people.remove(keeper.id),
            lambda: client.people.change(keeper.id, PersonChange(service=False)),
            lambda: client.people.change(keeper.id, PersonChange(suspended=True)),
        ):
            with pytest.raises(ProblemError) as caught:
                act()
            assert caught.value.code == "last-administrator"
        links = [
            client.invitations.invite(InvitationRequest(email=f"{n}@x.example", service=True))
            for n in range(3)
        ]
        for link in links:
            assert (
                browser(running)
                .post("/joining", json={"token": token_of(link), "password": NEW})
                .json()["service"]
            )
        numbers = [person.id for person in client.people.page()]

        def step_down(number: int) -> None:
            with Client(running.url, running.key) as one, contextlib.suppress(ProblemError):
                one.people.change(number, PersonChange(service=False))

        with ThreadPoolExecutor(4) as pool:
            list(pool.map(step_down, numbers))
        assert [person.service for person in client.people.page()].count(True) == 1


def test_a_suspended_person_is_out_at_once(service: Service) -> None:
    one = newcomer(service, "left@ledge.example")
    person = next(actor for actor in service.client.people.page() if actor.email == "left@ledge.example")
    service.client.people.change(person.id, PersonChange(suspended=True))
    assert one.get("/session").json() is None
    refused = browser(service).post("/session", json={"email": "left@ledge.example", "password": NEW})
    assert (refused.status_code, code_of(refused)) == (401, "wrong-sign-in")
    link = service.client.invitations.invite_member(
        "ledge", MemberInvitation(email="left@ledge.example", role=Role.LOOK)
    )
    body = {"token": token_of(link), "password": NEW}
    assert browser(service).post("/joining", json=body).status_code == 401


def test_a_role_in_a_library_reaches_no_further(service: Service) -> None:
    head = newcomer(service, "head@ledge.example", Role.ADMINISTER)
    made = head.post("/libraries/ledge/invitations", json={"email": "under@x.example", "role": "treat"})
    assert made.status_code == 201
    assert head.post("/invitations", json={"email": "x@x.example", "service": True}).status_code == 403
    key = head.post("/libraries/ledge/keys", json={"name": "site", "abilities": ["administer"]}).json()
    assert key["libraries"] == ["ledge"]
    assert head.post("/keys", json={"name": "all", "service": True}).status_code == 403
    listed = head.get("/libraries/ledge/people").json()["rows"]
    assert EMAIL not in {one["email"] for one in listed}, "who administers the service is not a member"
    assert set(listed[0]) == {"id", "name", "email", "role"}


# -- keys ------------------------------------------------------------------------------------------


def test_keys_are_shown_once_and_kept_as_a_hash(service: Service) -> None:
    made = service.client.keys.make(KeyRequest(name="form", libraries=["ledge"]))
    assert re.fullmatch(r"plumkey(-[0-9a-z]{5}){10}", made.secret)
    assert made.hint == made.secret[-4:]
    with psycopg.connect(service.database_url) as session:
        kept = session.execute("SELECT * FROM keys WHERE id = %s", [made.id]).fetchone()
    assert made.secret not in str(kept)


def test_keys_expire_rotate_and_are_revoked(service: Service) -> None:
    client = service.client
    made = client.keys.make_for_library(
        "ledge", LibraryKeyRequest(name="cms", abilities=[Ability.UPLOAD], days=30)
    )
    assert made.abilities == [Ability.LOOK, Ability.UPLOAD]
    next_one = client.keys.rotate(made.id, Rotation(overlap_hours=2), "ledge")
    assert (next_one.abilities, next_one.libraries, next_one.replaces) == (made.abilities, ["ledge"], made.id)
    assert next_one.expires_at is not None
    assert made.expires_at is not None
    assert next_one.expires_at >= made.expires_at

    def works(secret: str) -> bool:
        with Client(service.url, secret) as one:
            try:
                return [library.slug for library in one.libraries.all()] == ["ledge"]
            except ProblemError as error:
                return error.code != "not-signed-in"

    assert works(made.secret), "for a while both do"
    assert works(next_one.secret)
    with pytest.raises(ProblemError) as caught:
        client.keys.rotate(made.id, Rotation())
    assert caught.value.code == "ended"
    with psycopg.connect(service.database_url) as session:
        session.execute("UPDATE keys SET expires_at = now() WHERE id = %s", [made.id])
    assert not works(made.secret)
    assert works(next_one.secret)
    client.keys.revoke(next_one.id, "ledge")
    assert not works(next_one.secret)
    used = client.keys.make(KeyRequest(name="seen", libraries=["ledge"]))
    assert works(used.secret)
    listed = next(key for key in client.keys.page("ledge") if key.id == used.id)
    assert listed.last_used_at is not None
    assert listed.last_used_from == "127.0.0.1"


def test_a_key_of_a_library_goes_with_it(service: Service, tmp_path: Path) -> None:
    photograph(tmp_path / "brief/a.jpg")
    service.client.libraries.connect(LibraryRequest(name="Brief", root=str(tmp_path / "brief"), slug="brief"))
    made = service.client.keys.make_for_library("brief", LibraryKeyRequest(name="short-lived"))
    service.client.libraries.disconnect("brief")
    photograph(tmp_path / "brief2/a.jpg")
    service.client.libraries.connect(
        LibraryRequest(name="Brief", root=str(tmp_path / "brief2"), slug="brief")
    )
    with Client(service.url, made.secret) as one:
        assert one.libraries.all() == [], "another library of the same name is not opened by it"


# -- guessing: the last, since this address has to wait afterwards -----------------------------------


def test_a_stranger_locks_nobody_out(service: Service) -> None:
    at_home = newcomer(service, "known@ledge.example")
    at_home.delete("/session")

    def guess(number: int) -> int:
        body = {"email": "known@ledge.example", "password": f"guess number {number}"}
        return browser(service).post("/session", json=body).status_code

    with ThreadPoolExecutor(4) as pool:
        answers = list(pool.map(guess, range(24)))
    assert answers.count(401) <= 10
    assert 429 in answers
    right = {"email": "known@ledge.example", "password": NEW}
    assert browser(service).post("/session", json=right).status_code == 429, "a strange browser waits"
    assert at_home.post("/session", json=right).status_code == 200, "one that is known does not"
    cookie = at_home.cookies.get("plumcrate_known") or ""
    stolen = httpx.Client(base_url=f"{service.url}/api/v1", cookies={"plumcrate_known": cookie})
    wrong = {"email": "known@ledge.example", "password": "still a guess"}
    tries = [stolen.post("/session", json=wrong).status_code for _ in range(12)]
    assert tries.count(401) <= 10, "a known browser has a count of its own"
    other = {"email": EMAIL, "password": PASSWORD}
    assert stolen.post("/session", json=other).status_code == 429, "and is known to one account only"
