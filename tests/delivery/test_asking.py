"""What each browser gets, over a site that is made up: what is right, and what is said of what is not."""

from __future__ import annotations

from collections.abc import Callable

import httpx
import pytest

from plumcrate.contract.delivery import Browser, Delivery, PageCopy, PageFile
from plumcrate.delivery.asking import Asker, CannotAsk
from plumcrate.markup.offers import offers_of
from plumcrate.outgoing import Outgoing

SETTINGS = Delivery(address="https://ledge.example/media", base="https://cdn.example/m")
FILE = PageFile(
    path="kite.jpg",
    media_type="image/jpeg",
    bytes=900,
    width=300,
    height=200,
    copies=[
        PageCopy(path="kite.jpg.avif", media_type="image/avif", bytes=300),
        PageCopy(path="kite.jpg.webp", media_type="image/webp", bytes=500),
    ],
)
Answer = Callable[[httpx.Request], httpx.Response]


def asker(answer: Answer) -> Asker:
    return Asker(SETTINGS, Outgoing(None, transport=httpx.MockTransport(answer)))


def negotiating(request: httpx.Request) -> httpx.Response:
    """A site as it should be."""
    accept = request.headers["accept"]
    for kind, size in (("avif", 300), ("webp", 500)):
        if f"image/{kind}" in accept or request.url.path.endswith(kind):
            return picture(f"image/{kind}", size)
    return picture("image/jpeg", 900)


def picture(kind: str, size: int, **more: str) -> httpx.Response:
    headers = {"content-type": kind, "vary": "Origin, Accept"} | {
        k.replace("_", "-"): v for k, v in more.items()
    }
    return httpx.Response(200, headers=headers, stream=httpx.ByteStream(b"x" * size))


def faults(answer: Answer, path: str = "kite.jpg", file: PageFile | None = FILE) -> dict[str, str | None]:
    asking = asker(answer)
    (got,) = asking.ask([asking.of_file(path)], {path: file} if file is not None else {})
    return {each.browser: each.fault for each in got}


def test_a_site_that_chooses_is_right() -> None:
    assert set(faults(negotiating).values()) == {None}


@pytest.mark.parametrize(
    ("answer", "browser", "said"),
    [
        (lambda _: httpx.Response(404, stream=httpx.ByteStream(b"")), "avif", "answered 404"),
        (lambda _: picture("image/jpeg", 900), "avif", "a lighter form is there: 300 bytes instead of 900"),
        (lambda _: picture("image/jpeg", 900), "old", None),
        (lambda _: picture("image/avif", 300), "webp", "does not show image/avif received it"),
        (lambda _: picture("image/avif", 300), "old", "does not show image/avif"),
        (lambda _: picture("image/webp", 500), "webp", None),
        (lambda _: picture("text/html", 5), "old", "does not show text/html"),
        (lambda _: picture("image/jpeg", 900, vary="Cookie"), "old", "Vary: Accept"),
    ],
)
def test_what_is_wrong_is_said_in_words(answer: Answer, browser: str, said: str | None) -> None:
    found = faults(answer)[browser]
    assert found is None if said is None else said in (found or "")


def test_a_silent_site_is_told() -> None:
    def silent(request: httpx.Request) -> httpx.Response:
        raise httpx.ConnectError("refused", request=request)

    assert all("does not answer" in (fault or "") for fault in faults(silent).values())
    with pytest.raises(CannotAsk, match="does not answer"):
        asker(silent).of_page("/")


def test_what_is_not_on_record_needs_but_an_answer() -> None:
    assert set(faults(lambda _: picture("image/jpeg", 1), file=None).values()) == {None}


def test_what_caches_said_is_shown() -> None:
    asking = asker(lambda _: picture("image/jpeg", 900, cache_status="edge; hit; ttl=5"))
    (got,) = asking.ask([asking.of_file("a b?.jpg")], {})
    assert got[0].cache == "edge: from its store, 5 s left"
    assert got[0].address == "https://ledge.example/media/a%20b%3F.jpg"


PAGE = """<!doctype html>
<picture><source type="image/avif" srcset="https://cdn.example/m/kite.jpg.avif"><source type="image/webp"
 srcset="/media/kite-1.jpg.webp 100w, /media/kite.jpg.webp 300w"><img src="/media/kite.jpg"></picture>
<img src="https://other.example/media/kite.jpg"><img src="/elsewhere.jpg"><img alt="nothing">
<noscript><img src="/media/kite.jpg"></noscript><template><img src="/media/kite.jpg"></template>
<img srcset="/media/kite-1.jpg 100w, /media/kite-2.jpg 300w" src="/media/kite.jpg">"""


def test_a_page_is_read_as_browsers_choose() -> None:
    asking = asker(lambda _: httpx.Response(200, html=PAGE))
    first, second = asking.of_page("/visit")
    assert first.path == "kite.jpg"
    assert first.addresses == {
        Browser.OLD: "https://ledge.example/media/kite.jpg",
        Browser.WEBP: "https://ledge.example/media/kite.jpg.webp",
        Browser.AVIF: "https://cdn.example/m/kite.jpg.avif",
    }
    assert second.path == "kite-2.jpg"


def test_a_rendition_of_the_site_in_another_format_is_judged_by_its_own_record() -> None:
    page = """<picture><source type="image/webp" srcset="/media/kite.small.webp">
    <img src="/media/kite.small.jpg"></picture>"""
    asking = asker(lambda _: httpx.Response(200, html=page))
    (question,) = asking.of_page("/visit")
    assert question.path == "kite.small.jpg"
    assert question.paths[Browser.WEBP] == "kite.small.webp"
    files = {
        path: PageFile(path=path, media_type=kind, bytes=bytes, width=30, height=20)
        for path, kind, bytes in (
            ("kite.small.jpg", "image/jpeg", 900),
            ("kite.small.webp", "image/webp", 700),
        )
    }

    def answer(request: httpx.Request) -> httpx.Response:
        webp = request.url.path.endswith(".webp")
        body, kind = (b"x" * 700, "image/webp") if webp else (b"x" * 900, "image/jpeg")
        return httpx.Response(200, content=body, headers={"Content-Type": kind, "Vary": "Accept"})

    (got,) = asker(answer).ask([question], files)
    assert [(one.browser, one.media_type, one.fault) for one in got] == [
        (Browser.OLD, "image/jpeg", None),
        (Browser.WEBP, "image/webp", None),
        (Browser.AVIF, "image/webp", None),
    ]


def test_a_page_with_a_base_is_understood() -> None:
    (offer,) = offers_of('<base href="/media/"><base href="/x/"><img src="kite.jpg">')
    assert (offer.address, offer.base) == ("kite.jpg", "/media/")


@pytest.mark.parametrize(
    ("page", "answer", "said"),
    [
        ("https://other.example/", lambda _: httpx.Response(200), "must be of the site"),
        ("//other.example/", lambda _: httpx.Response(200), "must be of the site"),
        ("/", lambda _: httpx.Response(500), "answered 500"),
        ("/", lambda _: httpx.Response(302, headers={"location": "/x"}), "answered 302"),
        ("/", lambda _: httpx.Response(200, content=b"x" * 20_000_001), "more than"),
    ],
)
def test_pages_that_cannot_be_asked_for(page: str, answer: Answer, said: str) -> None:
    with pytest.raises(CannotAsk, match=said):
        asker(answer).of_page(page)


def test_without_an_address_nothing_can_be_asked() -> None:
    with pytest.raises(CannotAsk, match="where the site serves"):
        Asker(Delivery(), Outgoing(None))


def test_a_base_is_resolved_against_the_page_and_nonsense_is_refused() -> None:
    page = '<!doctype html><base href="/media/"><img src="kite.jpg">'
    (question,) = asker(lambda _: httpx.Response(200, html=page)).of_page("/visit")
    assert question.path == "kite.jpg"
    with pytest.raises(CannotAsk, match="must be of the site"):
        asker(lambda _: httpx.Response(200)).of_page("http://[broken")


@pytest.mark.parametrize("address", ["http://[x", "https://x:99999/a", "https:///a", "http://:80/"])
def test_an_address_names_a_host(address: str) -> None:
    with pytest.raises(ValueError, match="names no host"):
        Delivery(address=address)
