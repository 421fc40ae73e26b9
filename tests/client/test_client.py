"""Both clients, from one list of calls, over a transport that stands in for the network."""

import asyncio
import inspect
import json
from collections.abc import Callable, Iterator
from typing import Any

import httpx
import pytest

from plumcrate.client import AsyncClient, Client, ProblemError, UnreachableError, calls
from plumcrate.client.calls import Call
from plumcrate.client.methods import Method, Methods
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


def client(answer: Answer) -> Client:
    return Client("http://service", "key", transport=httpx.MockTransport(answer))


def events(*told: tuple[str, dict[str, Any]]) -> httpx.Response:
    body = "".join(f"event: {name}\ndata: {json.dumps(data)}\n\n" for name, data in told)
    return httpx.Response(200, text=body, headers={"content-type": "text/event-stream"})


def test_every_call_is_a_method_of_both_clients() -> None:
    known = {
        name
        for name, found in vars(calls).items()
        if inspect.isfunction(found) and found.__module__ == calls.__name__ and not name.startswith("_")
    }
    methods = {name for name, found in vars(Methods).items() if isinstance(found, Method)}
    assert methods == known
    for kind in (Client, AsyncClient):
        assert known <= set(dir(kind))


def test_a_call_is_sent_as_it_is_written() -> None:
    seen: list[httpx.Request] = []

    def answer(request: httpx.Request) -> httpx.Response:
        seen.append(request)
        return httpx.Response(200, json=RUN)

    with client(answer) as service:
        run = service.start_run(RunRequest(library="l", copies=["webp"]))
    (request,) = seen
    assert (run.id, run.left) == (7, 2)
    assert (request.method, request.url.path) == ("POST", "/api/v1/runs")
    assert request.headers["authorization"] == "Bearer key"
    assert json.loads(request.content) == {"library": "l", "copies": ["webp"]}, "only what was said is sent"


def test_names_of_uploads_are_quoted_and_waited_for_long_enough() -> None:
    call = calls.upload("l", "2025/Kite & gull?.jpg", b"x", NewFiles.AT_ONCE, 50)
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
        assert service.upload("l", "p.jpg", b"x", wait=50).state == "done"


def test_bytes_come_as_they_are() -> None:
    with client(lambda request: httpx.Response(200, content=request.url.query)) as service:
        assert service.content(3, "webp") == b"version=webp"


def test_a_problem_is_raised_with_its_code() -> None:
    problem = {
        "type": "urn:plumcrate:problem:job-open",
        "title": "A job is open",
        "status": 409,
        "detail": "wait",
    }
    with client(lambda _: httpx.Response(409, json=problem)) as service:
        with pytest.raises(ProblemError, match="A job is open: wait") as caught:
            service.start_check("l", CheckRequest())
        assert (caught.value.code, caught.value.status) == ("job-open", 409)
    bad = client(lambda _: httpx.Response(502, text="<html>bad gateway"))
    with bad as service, pytest.raises(ProblemError, match="502"):
        service.health()


def test_a_service_that_is_away_is_said_to_be() -> None:
    def refuse(request: httpx.Request) -> httpx.Response:
        raise httpx.ConnectError("refused", request=request)

    with client(refuse) as service:
        with pytest.raises(UnreachableError, match="http://service"):
            service.libraries()
        with pytest.raises(UnreachableError):
            list(service.events())
        with pytest.raises(UnreachableError):
            service.wait_for_run(1)


def test_pages_are_followed_to_their_end() -> None:
    def answer(request: httpx.Request) -> httpx.Response:
        offset = int(request.url.params["offset"])
        rows = [picture(offset + number) for number in range(2)]
        return httpx.Response(200, json={"rows": rows, "total": 4, "next": 2 if offset == 0 else None})

    with client(answer) as service:
        assert [row.id for row in service.all_pictures("l")] == [0, 1, 2, 3]


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
        seen = list(following.follow_run(7))
    assert [(run.state, run.done) for run in seen] == [("running", 1), ("running", 2), ("finished", 3)]
    assert service.asked == ["/events", "/runs/7"]


@pytest.mark.parametrize(
    "fault",
    [httpx.ReadTimeout("quiet"), httpx.ReadError("cut off"), httpx.Response(429, json={"title": "many"})],
)
def test_a_stream_that_is_cut_off_is_begun_anew_and_nothing_is_missed(
    fault: httpx.Response | Exception, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("plumcrate.client.clients._PAUSE", 0.0)
    service = Told(fault, events(), events(("job", JOB | {"state": "finished"})), runs=[JOB, JOB, JOB])
    with client(service) as following:
        job = following.wait_for_job(4)
    assert job.state is JobState.FINISHED
    assert job.check is not None
    assert job.check.files == 2
    assert service.asked.count("/events") == 3


def test_the_asynchronous_client_does_the_same(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("plumcrate.client.clients._PAUSE", 0.0)

    async def go() -> None:
        service = Told(
            httpx.ReadError("cut off"),
            events(("run", RUN | {"state": "stopped"})),
            events(("job", JOB | {"state": "failed", "reason": "away"})),
            runs=[RUN, RUN, JOB],
        )
        transport = httpx.MockTransport(service)
        async with AsyncClient("http://service", "key", transport=transport) as client:
            assert (await client.wait_for_run(7)).state == "stopped"
            job = await client.wait_for_job(4)
            assert (job.state, job.reason) == ("failed", "away")
            assert await client.content(1) == json.dumps(JOB, separators=(",", ":")).encode()
            problem = httpx.MockTransport(
                lambda _: httpx.Response(404, json={"type": "x:not-found", "title": "no", "status": 404})
            )
        async with AsyncClient("http://service", "key", transport=problem) as client:
            with pytest.raises(ProblemError, match="no"):
                await client.jobs("l", kind=JobKind.CHECK)

    asyncio.run(go())


def test_arguments_are_those_of_the_call() -> None:
    with client(lambda _: httpx.Response(200, json=[])) as service:
        assert service.jobs("l", kind=JobKind.SURVEY, limit=3) == []
        with pytest.raises(TypeError):
            service.jobs()  # type: ignore[call-arg]
    assert Client.retry.__doc__ == calls.retry.__doc__
    assert isinstance(calls.retry(1), Call)


def test_events_are_pairs_of_name_and_data() -> None:
    def answer(_: httpx.Request) -> httpx.Response:
        return events(("run", {"id": 1}), ("job", {"id": 2}))

    with client(answer) as service:
        stream: Iterator[tuple[str, dict[str, Any]]] = service.events()
        assert list(stream) == [("run", {"id": 1}), ("job", {"id": 2})]
