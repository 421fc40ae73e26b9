"""The app for Django over a made-up service: it tells, it is told, and without an answer the site goes on."""

from __future__ import annotations

import asyncio
import json
import threading
from collections.abc import AsyncIterator, Callable, Iterator
from datetime import UTC, datetime
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import httpx
import pytest
from conftest import wait_for
from django.core.exceptions import ImproperlyConfigured
from django.core.files.base import ContentFile
from django.db import connection, models, transaction
from django.http import HttpResponse, JsonResponse, StreamingHttpResponse
from django.template import Context, Template
from django.template.loader import render_to_string
from django.test import AsyncRequestFactory, Client, RequestFactory, override_settings
from django_site import PLUMCRATE
from standardwebhooks import Webhook

import plumcrate_django.service as of_service
import plumcrate_django.telling as of_telling
from plumcrate.client import Client as CrateClient
from plumcrate.contract.delivery import Delivery, Markup, PageCopy, PageFile
from plumcrate.contract.libraries import Library
from plumcrate.contract.mapping import MappedRendition
from plumcrate.contract.site_files import SiteFile, SizeFile
from plumcrate.contract.sizes import Focus
from plumcrate_django.conf import site
from plumcrate_django.middleware import PagesMiddleware
from plumcrate_django.panel import PagePanel
from plumcrate_django.receivers import descriptions_changed, files_changed
from plumcrate_django.service import service
from plumcrate_django.storage import LibraryStorage
from plumcrate_django.telling import Teller, teller

SECRET = "whsec_" + "A" * 43 + "="
PAGE = b'<!doctype html><p><img src="/media/pictures/kite.jpg" alt="A kite"></p>'


def made_for(name: str, width: int) -> SizeFile:
    path = f"kite.{name}-{width}.jpg"
    return SizeFile(size_name=name, slot=f"{width}w", path=path, width=width, height=20)


class Crate:
    """A service that is made up. ``away``: it does not answer. What it was told of is in ``heard``."""

    def __init__(self) -> None:
        self.away = False
        self.asked: list[str] = []
        self.heard: list[dict[str, Any]] = []
        self.refuse = 0
        self.files = {
            "kite.jpg": SiteFile(
                path="kite.jpg",
                picture_id=7,
                file_id=8,
                role="original",
                state="lighter",
                size_before=8,
                size_now=5,
                lightest=3,
                score=81.0,
                level="everyday",
                has_original=True,
                focus=Focus(x=0.25, y=0.5),
                alternatives={"en": "A kite & its shadow", "de-CH": "Ein Drachen", "fr": ""},
                sizes=[
                    SizeFile(
                        size_name="card",
                        slot=f"{width}w",
                        path=f"kite.card-{width}.jpg",
                        width=width,
                        height=20,
                    )
                    for width in (300, 600)
                ],
            )
        }

    def __call__(self, request: httpx.Request) -> httpx.Response:
        self.asked.append(f"{request.method} {request.url.path.removeprefix('/api/v1')}")
        if self.away:
            raise httpx.ConnectError("nobody is there", request=request)
        body = json.loads(request.content or b"{}")
        match self.asked[-1].removeprefix("POST /libraries/ledge/"):
            case "site-files":
                found = [self.files[path] for path in body["paths"] if path in self.files]
                return httpx.Response(200, json=[one.model_dump(mode="json") for one in found])
            case "page-files":
                copy = PageCopy(path="kite.jpg.avif", media_type="image/avif", bytes=3)
                known = PageFile(
                    path="kite.jpg", media_type="image/jpeg", bytes=5, width=90, height=60, copies=[copy]
                )
                return httpx.Response(200, json=[known.model_dump(mode="json")] if body["paths"] else [])
            case "POST /hooks/ledge":
                if self.refuse:
                    self.refuse -= 1
                    return httpx.Response(503)
                Webhook(SECRET).verify(request.content, dict(request.headers), json_parse=False)
                self.heard.append(body["data"])
                return httpx.Response(202, json={"taken": 1, "repeated": False})
            case "GET /files/8/content":
                return httpx.Response(200, content=b"original")
            case "GET /libraries/ledge":
                markup = Markup(elements=True)
                delivery = Delivery(address="http://testserver/media/pictures/", markup=markup)
                library = Library.model_construct(**_LIBRARY, delivery=delivery)
                return httpx.Response(200, json=library.model_dump(mode="json"))
        return httpx.Response(404, json={"type": "x", "title": "not there", "status": 404})


_LIBRARY: dict[str, Any] = {
    "slug": "ledge",
    "name": "Ledge",
    "root": "/l",
    "recipe_version": 1,
    "level": "everyday",
    "copy_formats": [],
    "patterns": [],
    "automation": {},
    "created_at": datetime.now(UTC),
}


@pytest.fixture
def crate(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Crate]:
    made = Crate()
    transport = httpx.MockTransport(made)
    monkeypatch.setattr(
        of_service,
        "Client",
        lambda url, key, timeout, patience: CrateClient(url, key, patience=patience, transport=transport),
    )
    monkeypatch.setattr(of_telling, "_GATHER", 0.01)
    monkeypatch.setattr(of_telling, "_FIRST", 0.01)
    http = httpx.Client(transport=transport)
    made_up = SimpleNamespace(Client=lambda timeout: http, HTTPError=httpx.HTTPError)
    monkeypatch.setattr(of_telling, "httpx", made_up)
    own = PLUMCRATE | {"hook_secret": SECRET, "webhook_secret": SECRET}
    with override_settings(PLUMCRATE=own, MEDIA_ROOT=tmp_path, MEDIA_URL="/media/"):
        yield made
        teller().close()


# -- settings ------------------------------------------------------------------------------------


def test_settings_are_checked_by_name() -> None:
    with (
        override_settings(PLUMCRATE=PLUMCRATE | {"libary": "x"}),
        pytest.raises(ImproperlyConfigured) as wrong,
    ):
        site()
    assert "no setting 'libary'" in str(wrong.value)
    with override_settings(PLUMCRATE={"url": "http://x"}), pytest.raises(ImproperlyConfigured) as wrong:
        site()
    assert "needs key and library" in str(wrong.value)


@pytest.mark.parametrize(
    ("folder", "name", "path"),
    [
        ("", "a/kite.jpg", "a/kite.jpg"),
        ("pictures", "pictures/kite.jpg", "kite.jpg"),
        ("/pictures/", "pictures/kite.jpg", "kite.jpg"),
        ("pictures", "other/kite.jpg", None),
        ("pictures", "pictures", None),
        ("pictures", "pictures/", None),
    ],
)
def test_names_of_the_site_are_paths_of_the_library(folder: str, name: str, path: str | None) -> None:
    with override_settings(PLUMCRATE=PLUMCRATE | {"folder": folder}):
        assert site().path_of(name) == path
        if path is not None:
            assert site().name_of(path) == name


# -- pages ---------------------------------------------------------------------------------------


def page_of(response: Any) -> bytes:
    return b"".join(response.streaming_content) if response.streaming else response.content


@pytest.mark.parametrize("kind", ["whole", "streamed"])
def test_a_page_names_lighter_pictures(crate: Crate, kind: str) -> None:
    def answer(_: Any) -> Any:
        if kind == "whole":
            return HttpResponse(PAGE, headers={"ETag": '"1"', "Content-Length": str(len(PAGE))})
        return StreamingHttpResponse([PAGE[:20], PAGE[20:]])

    response = PagesMiddleware(answer)(RequestFactory().get("/journal"))
    assert b"/media/pictures/kite.jpg.avif" in page_of(response)
    assert "Content-Length" not in response
    assert response.get("ETag", 'W/"1"') == 'W/"1"'


def test_a_page_of_an_asynchronous_site_too(crate: Crate) -> None:
    async def pieces() -> AsyncIterator[bytes]:
        yield PAGE[:30]
        yield PAGE[30:]

    async def streamed(_: Any) -> Any:
        return StreamingHttpResponse(pieces())

    async def asked() -> bytes:
        response = await PagesMiddleware(streamed)(AsyncRequestFactory().get("/"))
        return b"".join([piece async for piece in response.streaming_content])

    assert b"kite.jpg.avif" in asyncio.run(asked())


@pytest.mark.parametrize(
    "answer", [lambda _: JsonResponse({"a": 1}), lambda _: HttpResponse(PAGE, status=404)]
)
def test_other_answers_are_left_as_they_are(crate: Crate, answer: Callable[[Any], Any]) -> None:
    assert PagesMiddleware(answer)(RequestFactory().get("/")).content == answer(None).content
    assert not crate.asked


def test_without_the_service_pages_leave_as_they_were_and_it_is_left_alone(crate: Crate) -> None:
    crate.away = True
    passing = PagesMiddleware(lambda _: HttpResponse(PAGE))
    for _ in range(5):
        assert passing(RequestFactory().get("/")).content == PAGE
    assert len(crate.asked) == 1


# -- the storage -----------------------------------------------------------------------------------


def panel_of(answer: Callable[[Any], Any]) -> tuple[str, str]:
    """What the debug toolbar's panel says of a page: beside its name, and in full."""
    panel = PagePanel(SimpleNamespace(stats={}, store=SimpleNamespace(save_panel=lambda *_: None)), answer)
    panel.toolbar.request_id = "1"
    request = RequestFactory().get("/journal")
    panel.generate_stats(request, PagesMiddleware(answer)(request))
    return panel.nav_subtitle, " ".join(render_to_string(panel.template, panel.get_stats()).split())


def test_the_debug_toolbar_shows_what_became_of_a_page(crate: Crate) -> None:
    beside, whole = panel_of(lambda _: HttpResponse(PAGE))
    assert beside == "1 of 1 pictures"
    assert "1 picture of the library on this page, 1 with something put in, 0 left out by rule" in whole
    row = "<td>kite.jpg</td> <td>90 × 60</td> <td>8 bytes</td> <td>5 bytes</td> <td>3 bytes</td>"
    assert row in whole
    assert "No picture of the library" in panel_of(lambda _: HttpResponse("<p>words"))[1]
    beside, whole = panel_of(lambda _: JsonResponse({}))
    assert (beside, "only answers of status 200 with unpacked HTML" in whole) == ("left as it is", True)
    crate.away = True
    service().pages.forget()
    assert "The service did not answer; it is asked again in" in panel_of(lambda _: HttpResponse(PAGE))[1]


def test_what_is_opened_is_what_was_written(crate: Crate, tmp_path: Path) -> None:
    storage = LibraryStorage()
    (tmp_path / "pictures").mkdir()
    for name in ("kite.jpg", "new.jpg"):
        (tmp_path / "pictures" / name).write_bytes(b"light")
    with storage.open("pictures/kite.jpg") as file:
        assert file.read() == b"original"
    assert storage.size("pictures/kite.jpg") == 5
    with storage.open("pictures/new.jpg") as file:
        assert file.read() == b"light"
    crate.away = True
    with storage.open("pictures/kite.jpg") as file:
        assert file.read() == b"light"


def test_a_touched_up_file_is_opened_as_it_stands(crate: Crate, tmp_path: Path) -> None:
    (tmp_path / "pictures").mkdir()
    (tmp_path / "pictures/kite.jpg").write_bytes(b"light")
    crate.files["kite.jpg"] = crate.files["kite.jpg"].model_copy(update={"has_original": False})
    with LibraryStorage().open("pictures/kite.jpg") as file:
        assert file.read() == b"light"


def test_a_name_on_record_is_taken(crate: Crate) -> None:
    storage = LibraryStorage()
    assert storage.get_available_name("pictures/kite.jpg") != "pictures/kite.jpg"
    assert storage.get_available_name("pictures/boat.jpg") == "pictures/boat.jpg"
    crate.away = True
    assert not storage.exists("pictures/kite.jpg")


# -- telling ---------------------------------------------------------------------------------------


class Card(models.Model):
    picture = models.FileField(upload_to="pictures")
    other = models.FileField(upload_to="elsewhere", null=True)

    class Meta:
        app_label = "plumcrate"


@pytest.fixture
def cards() -> Iterator[None]:
    with connection.schema_editor() as editor:
        editor.create_model(Card)
    yield
    with connection.schema_editor() as editor:
        editor.delete_model(Card)


def test_what_is_saved_and_deleted_is_told_when_it_is_committed(crate: Crate, cards: None) -> None:
    with transaction.atomic():
        card = Card(picture=ContentFile(b"a", "boat.jpg"), other=ContentFile(b"b", "note.txt"))
        card.save()
        assert not crate.heard
    wait_for(lambda: crate.heard)
    assert crate.heard == [{"paths": ["boat.jpg"], "renditions": [], "whole": True}]
    card.delete()
    wait_for(lambda: len(crate.heard) == 2)
    with transaction.atomic():
        Card(picture=ContentFile(b"c", "sail.jpg")).save()
        transaction.set_rollback(True)
    teller().close()
    assert len(crate.heard) == 2, "what was rolled back did not happen"


def test_a_service_that_is_away_is_told_later_and_once(crate: Crate) -> None:
    crate.refuse = 3
    said = MappedRendition(path="k.300.jpg", original="kite.jpg", made_by="300")
    teller().tell("kite.jpg")
    teller().tell("k.300.jpg", said)
    wait_for(lambda: crate.heard)
    assert crate.heard == [
        {"paths": ["kite.jpg", "k.300.jpg"], "renditions": [said.model_dump()], "whole": True}
    ]


def test_many_tell_at_once_and_nothing_is_lost(crate: Crate) -> None:
    own = Teller(site())

    def tell(worker: int) -> None:
        for number in range(200):
            own.tell(f"{worker}/{number}.jpg")

    threads = [threading.Thread(target=tell, args=(worker,)) for worker in range(4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    own.close(10)
    assert len({path for message in crate.heard for path in message["paths"]}) == 800


# -- being told ------------------------------------------------------------------------------------


def message(secret: str, body: bytes) -> Any:
    now = datetime.now(UTC)
    headers = {
        "webhook-id": "msg_1",
        "webhook-timestamp": str(int(now.timestamp())),
        "webhook-signature": Webhook(secret).sign("msg_1", now, body.decode()),
    }
    answer: httpx.Response = Client().post(
        "/webhook/", body, content_type="application/json", headers=headers
    )
    return answer


def test_the_site_hears_of_changed_files_and_forgets_what_it_knew(crate: Crate) -> None:
    heard: list[list[str]] = []

    def hear(sender: Any, names: list[str], **_: Any) -> None:
        heard.append(names)

    files_changed.connect(hear)
    passing = PagesMiddleware(lambda _: HttpResponse(PAGE))
    for _ in range(2):
        passing(RequestFactory().get("/"))
    asked = len(crate.asked)
    body = json.dumps({"type": "files.changed", "data": {"library": "ledge", "paths": ["kite.jpg"]}}).encode()
    assert message(SECRET, body).status_code == 204
    assert heard == [["pictures/kite.jpg"]]
    passing(RequestFactory().get("/"))
    assert len(crate.asked) == 2 * asked, "all of it is asked anew"
    assert message(SECRET, b'{"type": "webhook.trial", "data": {}}').status_code == 204
    assert len(heard) == 1


def test_the_site_hears_of_descriptions(crate: Crate) -> None:
    heard: list[tuple[str, dict[str, Any]]] = []

    def hear(sender: Any, language: str, texts: dict[str, Any], **_: Any) -> None:
        heard.append((language, texts))

    descriptions_changed.connect(hear)
    text = {"path": "kite.jpg", "alternative": "A kite", "decorative": False}
    data = {"library": "ledge", "language": "en", "pictures": [text]}
    body = json.dumps({"type": "descriptions.changed", "data": data}).encode()
    assert message(SECRET, body).status_code == 204
    assert heard == [("en", {"pictures/kite.jpg": text})]


def test_a_message_that_is_not_signed_changes_nothing(crate: Crate) -> None:
    body = b'{"type": "files.changed", "data": {"paths": ["kite.jpg"]}}'
    assert message("whsec_" + "B" * 43 + "=", body).status_code == 401
    assert Client().post("/webhook/", body, content_type="application/json").status_code == 401
    assert Client().get("/webhook/").status_code == 405
    with override_settings(PLUMCRATE=PLUMCRATE):
        assert Client().post("/webhook/", body, content_type="application/json").status_code == 404


# -- templates ---------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("tag", "made"),
    [
        ('size_url file "card"', "/media/pictures/kite.card-300.jpg"),
        (
            'size_srcset file "card"',
            "/media/pictures/kite.card-300.jpg 300w, /media/pictures/kite.card-600.jpg 600w",
        ),
        ('size_url file "none"', "/media/pictures/kite.jpg"),
        ("focus file", "25% 50%"),
        ("description file", "A kite &amp; its shadow"),
        ('description file "de"', "Ein Drachen"),
        ('description file "fr"', ""),
        ('description file "pl"', ""),
    ],
)
def test_templates_name_sizes_the_focal_point_and_what_pictures_say(
    crate: Crate, tag: str, made: str
) -> None:
    file = Card(picture="pictures/kite.jpg").picture
    assert Template("{% load plumcrate %}{% " + tag + " %}").render(Context({"file": file})) == made
    crate.away = True
    service.cache_clear()
    plain = Template("{% load plumcrate %}{% " + tag + " %}").render(Context({"file": file}))
    without = {"focus": "50% 50%", "description": ""}
    assert plain == without.get(tag.split()[0], "/media/pictures/kite.jpg")
