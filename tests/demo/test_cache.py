"""The stand-in cache by the sections of RFC 9111 that it obeys, and by RFC 9211 in what it says."""

from __future__ import annotations

import asyncio
from collections.abc import Callable

import httpx
import pytest

from plumcrate.demo.cache import Cache, directives

HOST = ("host", "ledge.example")
Answer = Callable[[httpx.Request], httpx.Response]


class Bench:
    """A cache before an origin that is made up, with the clock in hand."""

    def __init__(self, answer: Answer) -> None:
        self.now, self.asked = 1_000_000.0, [0]

        def counted(request: httpx.Request) -> httpx.Response:
            self.asked[0] += 1
            self.last = request
            return answer(request)

        self.cache = Cache("http://origin", clock=lambda: self.now, transport=httpx.MockTransport(counted))

    def ask(self, target: str = "/a.jpg", method: str = "GET", **headers: str) -> httpx.Response:
        async def sent() -> httpx.Response:
            transport = httpx.ASGITransport(self.cache)
            async with httpx.AsyncClient(transport=transport, base_url="http://ledge.example") as client:
                client.headers.clear()
                named = {name.replace("_", "-"): value for name, value in headers.items()}
                return await client.request(method, target, headers=named)

        return asyncio.run(sent())


def origin(**headers: str) -> Answer:
    """An origin that answers with what it was asked to accept."""

    def answer(request: httpx.Request) -> httpx.Response:
        named = {name.replace("_", "-"): value for name, value in headers.items()}
        if request.headers.get("if-none-match") == named.get("etag", "-"):
            return httpx.Response(304, headers=named, stream=httpx.ByteStream(b""))
        content = request.headers.get("accept", "any").encode()
        return httpx.Response(200, headers=named, stream=httpx.ByteStream(content))

    return answer


def test_a_fresh_answer_is_reused_with_its_age_and_a_stale_one_is_not() -> None:
    bench = Bench(origin(cache_control="max-age=60"))
    assert "fwd=uri-miss" in bench.ask().headers["cache-status"]
    bench.now += 59
    again = bench.ask()
    assert (again.headers["age"], again.headers["cache-status"]) == ("59", "gannet-cache; hit; ttl=1")
    bench.now += 1
    assert "fwd=stale" in bench.ask().headers["cache-status"]
    assert bench.asked == [2]


def test_what_varies_is_kept_apart() -> None:
    bench = Bench(origin(cache_control="max-age=60", vary="Accept"))
    for accept in ("image/avif", "image/webp", "*/*"):
        assert bench.ask(accept=accept).text == accept
        assert "hit" in bench.ask(accept=accept).headers["cache-status"]
    assert "vary-miss" in bench.ask(accept="image/png").headers["cache-status"]
    assert bench.asked == [4]


def test_a_stale_answer_is_validated_and_lives_on() -> None:
    bench = Bench(origin(cache_control="max-age=5", etag='"1"'))
    first = bench.ask()
    bench.now += 10
    again = bench.ask()
    assert again.text == first.text
    assert "fwd-status=304" in again.headers["cache-status"]
    assert bench.last.headers["if-none-match"] == '"1"'
    assert "hit" in bench.ask().headers["cache-status"]


@pytest.mark.parametrize(
    "headers",
    [
        {"cache_control": "no-store"},
        {"cache_control": "private, max-age=60"},
        {"cache_control": "max-age=60", "vary": "*"},
        {"cache_control": "max-age=0"},
        {"cache_control": "s-maxage=0, max-age=60"},
        {"cache_control": "no-cache"},
        {},
    ],
)
def test_what_is_not_to_be_reused_is_not(headers: dict[str, str]) -> None:
    bench = Bench(origin(**headers))
    for _ in range(3):
        assert "hit" not in bench.ask().headers["cache-status"]
    assert bench.asked == [3]


@pytest.mark.parametrize(
    ("headers", "reused"),
    [
        ({"cache_control": "s-maxage=60, max-age=0"}, True),
        ({"expires": "Thu, 01 Jan 2026 00:01:00 GMT", "date": "Thu, 01 Jan 2026 00:00:00 GMT"}, True),
        ({"cache_control": "max-age=60", "age": "59"}, True),
        ({"cache_control": "max-age=60", "age": "60"}, False),
        ({"expires": "0"}, False),
    ],
)
def test_lifetimes(headers: dict[str, str], reused: bool) -> None:
    bench = Bench(origin(**headers))
    bench.ask()
    assert ("hit" in bench.ask().headers["cache-status"]) is reused


@pytest.mark.parametrize(
    ("asked", "reused"),
    [
        ({"cache_control": "no-cache"}, False),
        ({"cache_control": "max-age=3"}, False),
        ({"cache_control": "max-age=9"}, True),
        ({"range": "bytes=0-1"}, False),
    ],
)
def test_what_a_request_allows(asked: dict[str, str], reused: bool) -> None:
    bench = Bench(origin(cache_control="max-age=60"))
    bench.ask()
    bench.now += 5
    assert ("hit" in bench.ask(**asked).headers["cache-status"]) is reused


def test_only_if_cached_never_reaches_the_origin() -> None:
    bench = Bench(origin(cache_control="max-age=60"))
    assert bench.ask(cache_control="only-if-cached").status_code == 504
    assert bench.asked == [0]
    bench.ask()
    assert bench.ask(cache_control="only-if-cached").status_code == 200


def test_conditions_are_answered_from_the_store() -> None:
    bench = Bench(origin(cache_control="max-age=60", etag='"1"'))
    bench.ask()
    assert bench.ask(if_none_match='W/"1"').status_code == 304
    assert bench.ask(if_none_match='"2"').status_code == 200
    assert bench.ask(method="HEAD").headers["content-length"] == "3"
    assert bench.asked == [1]


def test_an_address_is_purged_with_every_form_and_query() -> None:
    bench = Bench(origin(cache_control="max-age=60", vary="Accept"))
    for accept in ("image/avif", "*/*"):
        bench.ask(accept=accept)
    bench.ask("/a.jpg?v=1")
    bench.ask("/b.jpg")
    assert "purged-3" in bench.ask(method="PURGE").headers["cache-status"]
    assert "hit" in bench.ask("/b.jpg").headers["cache-status"]
    for accept in ("image/avif", "*/*"):
        assert "fwd" in bench.ask(accept=accept).headers["cache-status"]


def test_a_tag_is_purged_wherever_it_is() -> None:
    def answer(request: httpx.Request) -> httpx.Response:
        tags = f"ledge, ledge-{request.url.path[1:2]}"
        headers = {"cache-control": "max-age=60", "cache-tag": tags}
        return httpx.Response(200, headers=headers, stream=httpx.ByteStream(b""))

    bench = Bench(answer)
    for target in ("/a1", "/a2", "/b1"):
        bench.ask(target)
    assert "purged-2" in bench.ask("/", method="PURGE", cache_tag="ledge-a, ledge-z").headers["cache-status"]
    assert "hit" in bench.ask("/b1").headers["cache-status"]
    assert "purged-1" in bench.ask("/", method="PURGE", cache_tag="ledge").headers["cache-status"]


def test_a_silent_origin_is_told() -> None:
    def silent(request: httpx.Request) -> httpx.Response:
        raise httpx.ConnectError("refused", request=request)

    answer = Bench(silent).ask()
    assert answer.status_code == 502
    assert "does not answer" in answer.text


def test_directives_are_read_whatever_their_case_and_quotes() -> None:
    assert directives([("Cache-Control", 'Max-Age="5", PUBLIC'), ("cache-control", "no-cache")]) == {
        "max-age": "5",
        "public": "",
        "no-cache": "",
    }
