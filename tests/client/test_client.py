"""Both clients, from one list of calls, over a transport that stands in for the network."""

import asyncio
import importlib
import inspect
import json
import pkgutil
from collections.abc import Callable, Iterator
from typing import Any

import httpx
import pytest

from plumcrate.client import (
    AsyncClient,
    Client,
    ProblemError,
    UnreachableError,
    WrongAnswerError,
    WrongNameError,
    calls,
)
from plumcrate.client.calls import Call
from plumcrate.client.calls import pictures as picture_calls
from plumcrate.client.calls import runs as run_calls
from plumcrate.client.method import Method
from plumcrate.contract.automation import NewFiles
from plumcrate.contract.jobs import CheckRequest, JobKind, JobState
from plumcrate.contract.runs import RunRequest

RUN = {
    "id": 7,
    "library": "l",
    "kind": "treat",
    "origin": "person",
    "state": "running",
    "level": "lean",
    "copies": [],
    "scope": {},
    "files": 3,
    "done": 1,
    "passed": 0,
    "failed": 0,
    "left": 2,
    "bytes_before": 1,
    "bytes_after": 1,
    "bytes_lightest": 1,
    "created_at": "2026-01-01T00:00:00Z",
    "something_new": {"x": 1},
}
JOB = {
    "id": 4,
    "library": "l",
    "kind": "check",
    "state": "running",
    "check": {"files": 2, "later": 0},
    "created_at": "2026-01-01T00:00:00Z",
}
Answer = Callable[[httpx.Request], httpx.Response]


def client(answer: Answer, patience: float = 0.0) -> Client:
    return Client("http://service", "key", patience=patience, transport=httpx.MockTransport(answer))


def events(*told: tuple[str, dict[str, Any]]) -> httpx.Response:
    body = "".join(f"event: {name}\ndata: {json.dumps(data)}\n\n" for name, data in told)
    return httpx.Response(200, text=body, headers={"content-type": "text/event-stream"})


def test_every_call_is_a_method_of_both_clients() -> None:
    modules = {found.name for found in pkgutil.iter_modules(calls.__path__)} - {"base"}
    assert len(modules) > 20
    for one in (Client("http://x", "k"), AsyncClient("http://x", "k")):
        for name in modules:
            module = importlib.import_module(f"plumcrate.client.calls.{name}")
            resource = one if name == "service" else getattr(one, name)
            known = {
                call
                for call, found in vars(module).items()
                if inspect.isfunction(found) and found.__module__ == module.__name__ and call[0] != "_"
            }
            members = inspect.getmembers_static(type(resource))
            methods = {call for call, found in members if isinstance(found, Method)}
            assert methods == known, name
            assert all(callable(getattr(resource, call)) for call in known)


def test_a_list_is_walked_through_page_by_page() -> None:
    asked: list[dict[str, str]] = []

    def answer(request: httpx.Request) -> httpx.Response:
        asked.append(dict(request.url.params))
        number = int(request.url.params.get("after", 0))
        following = str(number + 1) if number < 2 else None
        return httpx.Response(200, json={"rows": [RUN | {"id": number}], "total": 3, "cursor": following})

    with client(answer) as service:
        assert [run.id for run in service.runs.each("l", limit=2)] == [0, 1, 2]
        page = service.runs.page("l")
        assert (len(page), page[0].id, [run.id for run in page], page.total) == (1, 0, [0], 3)
    assert asked[:3] == [
        {"library": "l", "limit": "500"},
        {"library": "l", "limit": "500", "after": "1"},
        {"library": "l", "limit": "500", "after": "2"},
    ]

    async def awaited() -> list[int]:
        transport = httpx.MockTransport(answer)
        async with AsyncClient("http://service", "key", transport=transport) as one:
            return [run.id async for run in one.runs.each("l")]

    assert asyncio.run(awaited()) == [0, 1, 2]


def test_a_call_is_sent_as_it_is_written() -> None:
    seen: list[httpx.Request] = []

    def answer(request: httpx.Request) -> httpx.Response:
        seen.append(request)
        return httpx.Response(200, json=RUN)

    with client(answer) as service:
        run = service.runs.start(RunRequest(library="l", copies=["webp"]))
    (request,) = seen
    assert (run.id, run.left) == (7, 2)
    assert (request.method, request.url.path) == ("POST", "/api/v1/runs")
    assert request.headers["authorization"] == "Bearer key"
    assert json.loads(request.content) == {"library": "l", "copies": ["webp"]}, "only what was said is sent"


def test_names_of_uploads_are_quoted_and_waited_for_long_enough() -> None:
    call = picture_calls.upload("l", "2025/Kite & gull?.jpg", b"x", NewFiles.AT_ONCE, 50)
    assert call.path == "/libraries/l/files/2025/Kite%20%26%20gull%3F.jpg"
    assert call.seconds is not None
    assert call.seconds > 50

    def answer(request: httpx.Request) -> httpx.Response:
        assert request.extensions["timeout"]["read"] > 50
        return httpx.Response(
            201,
            json={
                "path": "p",
                "picture_id": 1,
                "file_id": 1,
                "run_id": None,
                "state": "done",
                "size_before": 1,
                "size_now": 1,
            },
        )

    with client(answer) as service:
        assert service.pictures.upload("l", "p.jpg", b"x", wait=50).state == "done"


def test_bytes_come_as_they_are() -> None:
    with client(lambda request: httpx.Response(200, content=request.url.query)) as service:
        assert service.pictures.content(3, "webp") == b"version=webp"


def test_a_problem_is_raised_with_its_code() -> None:
    problem = {
        "type": "urn:plumcrate:problem:job-open",
        "title": "A job is open",
        "status": 409,
        "detail": "wait",
    }
    with client(lambda _: httpx.Response(409, json=problem)) as service:
        with pytest.raises(ProblemError, match="A job is open: wait") as caught:
            service.jobs.check("l", CheckRequest())
        assert (caught.value.code, caught.value.status) == ("job-open", 409)
    bad = client(lambda _: httpx.Response(502, text="<html>bad gateway"))
    with bad as service, pytest.raises(ProblemError, match="502"):
        service.health()


def test_a_service_that_is_away_is_said_to_be() -> None:
    def refuse(request: httpx.Request) -> httpx.Response:
        raise httpx.ConnectError("refused", request=request)

    with client(refuse) as service:
        with pytest.raises(UnreachableError, match="http://service"):
            service.libraries.all()
        with pytest.raises(UnreachableError):
            list(service.events())


def refused(request: httpx.Request) -> httpx.Response:
    raise httpx.ConnectError("refused", request=request)


def cut_off(request: httpx.Request) -> httpx.Response:
    raise httpx.ReadError("cut off", request=request)


def busy(request: httpx.Request) -> httpx.Response:
    return httpx.Response(503, json={"title": "busy"}, headers={"Retry-After": "7"})


def too_many(request: httpx.Request) -> httpx.Response:
    return httpx.Response(429, json={"title": "too many"})


class Clock:
    """Sleeping costs no time, and is counted."""

    def __init__(self, monkeypatch: pytest.MonkeyPatch) -> None:
        self.now, self.pauses = 0.0, list[float]()
        monkeypatch.setattr("time.monotonic", lambda: self.now)
        monkeypatch.setattr("time.sleep", self.sleep)

    def sleep(self, seconds: float) -> None:
        self.now += seconds
        self.pauses.append(seconds)


def after(faults: int, fault: Answer, answer: Any) -> tuple[Answer, list[str]]:
    """So many faults, then the answer; and the methods that were asked."""
    asked: list[str] = []

    def answered(request: httpx.Request) -> httpx.Response:
        asked.append(request.method)
        return fault(request) if len(asked) <= faults else httpx.Response(200, json=answer)

    return answered, asked


@pytest.mark.parametrize("fault", [refused, too_many, cut_off, busy])
def test_a_request_that_failed_is_sent_again(fault: Answer, monkeypatch: pytest.MonkeyPatch) -> None:
    clock = Clock(monkeypatch)
    answer, asked = after(3, fault, [])
    with client(answer, patience=30) as service:
        assert service.libraries.all() == []
    assert asked == ["GET"] * 4
    if fault is busy:
        assert clock.pauses == [7, 7, 7], "the service says when to come again"
    else:
        assert all(0.05 * 2**n <= pause <= 0.1 * 2**n for n, pause in enumerate(clock.pauses))
    keys: list[str] = []
    answer, asked = after(3, fault, RUN)

    def noting(request: httpx.Request) -> httpx.Response:
        keys.append(request.headers["idempotency-key"])
        return answer(request)

    with client(noting, patience=30) as service:
        assert service.runs.start(RunRequest(library="l")).id == 7
        assert service.runs.start(RunRequest(library="l")).id == 7
    assert asked == ["POST"] * 5
    first, *again, another = keys
    assert set(again) == {first}, "by the same key, so that it is done once"
    assert another != first


def test_patience_ends(monkeypatch: pytest.MonkeyPatch) -> None:
    clock = Clock(monkeypatch)
    answer, asked = after(1_000, refused, [])
    with client(answer, patience=3) as service, pytest.raises(UnreachableError):
        service.libraries.all()
    assert clock.now <= 3
    assert 4 <= len(asked) <= 9


def test_who_waits_lives_through_a_restart_of_the_service(monkeypatch: pytest.MonkeyPatch) -> None:
    clock = Clock(monkeypatch)

    def answer(request: httpx.Request) -> httpx.Response:
        if clock.now < 120:
            return refused(request)
        return (
            events()
            if request.url.path.endswith("/events")
            else httpx.Response(200, json=RUN | {"state": "finished"})
        )

    with client(answer) as service:
        assert service.runs.wait(7).state == "finished"
    assert 120 <= clock.now < 150


def test_who_waits_for_what_never_comes_back_hears_so(monkeypatch: pytest.MonkeyPatch) -> None:
    clock = Clock(monkeypatch)
    with client(refused) as service, pytest.raises(UnreachableError):
        service.runs.wait(7)
    assert 250 < clock.now <= 301


@pytest.mark.parametrize("name", ["../keys/7", "a/b", "a?b", "a#b", "%2e", "ä b"])
def test_a_name_stays_one_part_of_its_path(name: str) -> None:
    seen: list[bytes] = []

    def answer(request: httpx.Request) -> httpx.Response:
        seen.append(request.url.raw_path)
        return httpx.Response(204)

    with client(answer) as service:
        service.libraries.disconnect(name)
        service.sizes.remove("l", name)
    assert [path.count(b"/") for path in seen] == [4, 6]
    assert not any(b"?" in path for path in seen)


@pytest.mark.parametrize("name", ["", ".", ".."])
def test_a_name_that_no_path_can_hold_is_refused(name: str) -> None:
    with client(refused) as service, pytest.raises(WrongNameError):
        service.libraries.disconnect(name)


@pytest.mark.parametrize("answer", [b"<html>Welcome</html>", b"[{}]", b"\xff"])
def test_an_answer_of_something_else_is_a_client_error(answer: bytes) -> None:
    page = httpx.Response(200, content=answer, headers={"content-type": "text/html"})
    with client(lambda _: page) as service, pytest.raises(WrongAnswerError, match="text/html"):
        service.libraries.all()


def test_pages_are_followed_to_their_end() -> None:
    def answer(request: httpx.Request) -> httpx.Response:
        first = 0 if "after" not in request.url.params else 2
        assert request.url.params.get("after") == ("onward" if first else None)
        rows = [picture(first + number) for number in range(2)]
        cursor = None if first else "onward"
        return httpx.Response(200, json={"rows": rows, "total": 4, "cursor": cursor})

    with client(answer) as service:
        assert [row.id for row in service.pictures.each("l")] == [0, 1, 2, 3]


def picture(number: int) -> dict[str, Any]:
    return {
        "id": number,
        "library": "l",
        "path": "p",
        "name": "p",
        "folder": "",
        "format": "jpeg",
        "width": 1,
        "height": 1,
        "state": "new",
        "files": 1,
        "bytes_before": 1,
        "bytes_now": 1,
        "bytes_lightest": 1,
        "original_id": 1,
    }


class Told:
    """A service whose run goes on each time that it is asked after or told of."""

    def __init__(self, *streams: httpx.Response | Exception, runs: list[dict[str, Any]]) -> None:
        self.streams, self.runs = list(streams), runs
        self.asked: list[str] = []

    def __call__(self, request: httpx.Request) -> httpx.Response:
        self.asked.append(request.url.path.removeprefix("/api/v1"))
        if request.url.path.endswith("/events"):
            following = self.streams.pop(0)
            if isinstance(following, Exception):
                raise following
            return following
        return httpx.Response(200, json=self.runs.pop(0) if len(self.runs) > 1 else self.runs[0])


def test_a_run_is_followed_by_events_not_by_asking() -> None:
    ended = RUN | {"state": "finished", "done": 3, "left": 0}
    others = ("run", RUN | {"id": 8, "state": "finished"}), ("item", {"id": 7}), ("run", RUN | {"done": 2})
    service = Told(events(*others, ("run", ended)), runs=[RUN])
    with client(service) as following:
        seen = list(following.runs.follow(7))
    assert [(run.state, run.done) for run in seen] == [("running", 1), ("running", 2), ("finished", 3)]
    assert service.asked == ["/events", "/runs/7"]


@pytest.mark.parametrize(
    "fault",
    [httpx.ReadTimeout("quiet"), httpx.ReadError("cut off"), httpx.Response(429, json={"title": "many"})],
)
def test_a_stream_that_is_cut_off_is_begun_anew_and_nothing_is_missed(
    fault: httpx.Response | Exception, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("plumcrate.client.wire.PAUSE", 0.0)
    service = Told(fault, events(), events(("job", JOB | {"state": "finished"})), runs=[JOB, JOB, JOB])
    with client(service) as following:
        job = following.jobs.wait(4)
    assert job.state is JobState.FINISHED
    assert job.check is not None
    assert job.check.files == 2
    assert service.asked.count("/events") == 3


def test_the_asynchronous_client_does_the_same(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("plumcrate.client.wire.PAUSE", 0.0)

    async def go() -> None:
        service = Told(
            httpx.ReadError("cut off"),
            events(("run", RUN | {"state": "stopped"})),
            events(("job", JOB | {"state": "failed", "reason": "away"})),
            runs=[RUN, RUN, JOB],
        )
        transport = httpx.MockTransport(service)
        async with AsyncClient("http://service", "key", transport=transport) as client:
            assert (await client.runs.wait(7)).state == "stopped"
            job = await client.jobs.wait(4)
            assert (job.state, job.reason) == ("failed", "away")
            assert await client.pictures.content(1) == json.dumps(JOB, separators=(",", ":")).encode()
            problem = httpx.MockTransport(
                lambda _: httpx.Response(404, json={"type": "x:not-found", "title": "no", "status": 404})
            )
        async with AsyncClient("http://service", "key", transport=problem) as client:
            with pytest.raises(ProblemError, match="no"):
                await client.jobs.page("l", kind=JobKind.CHECK)

    asyncio.run(go())


def test_arguments_are_those_of_the_call() -> None:
    with client(lambda _: httpx.Response(200, json={"rows": [], "total": 0})) as service:
        assert service.jobs.page("l", kind=JobKind.SURVEY, limit=3).rows == []
        with pytest.raises(TypeError):
            service.jobs.page()  # type: ignore[call-arg]
    assert Client("http://x", "k").runs.retry.__doc__ == run_calls.retry.__doc__
    assert isinstance(run_calls.retry(1), Call)


def test_events_are_pairs_of_name_and_data() -> None:
    def answer(_: httpx.Request) -> httpx.Response:
        return events(("run", {"id": 1}), ("job", {"id": 2}))

    with client(answer) as service:
        stream: Iterator[tuple[str, dict[str, Any]]] = service.events()
        assert list(stream) == [("run", {"id": 1}), ("job", {"id": 2})]
