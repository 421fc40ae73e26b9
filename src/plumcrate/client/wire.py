"""How both clients speak: a call as a request, an answer as what the call says, and what goes wrong."""

from __future__ import annotations

from typing import Any, TypeVar

import httpx
from httpx_sse import ServerSentEvent
from pydantic import ValidationError

from plumcrate.contract.common import Problem

from .calls import Call
from .errors import ProblemError, UnreachableError, WrongAnswerError

T = TypeVar("T")

#: Seconds between two looks at what is followed.
PAUSE = 0.5
#: A stream that says nothing for so long is begun anew, and what is followed is looked at again.
QUIET = httpx.Timeout(30.0, read=10.0)
#: As long as events may be waited for.
LISTENING = httpx.Timeout(30.0, read=60.0)
#: So many seconds a request is sent again; and what is followed is looked for, while the service or a server
#: in front of it starts anew.
PATIENCE, FOLLOWING = 3.0, 300.0


def options(url: str, key: str, timeout: float) -> dict[str, Any]:
    headers = {"Authorization": f"Bearer {key}"}
    return {"base_url": url.rstrip("/") + "/api/v1", "headers": headers, "timeout": timeout}


def request(call: Call[Any]) -> dict[str, Any]:
    body = call.body.model_dump(mode="json", exclude_unset=True) if call.body is not None else None
    request: dict[str, Any] = {"method": call.method, "url": call.path, "params": call.params}
    if call.headers is not None:
        request["headers"] = dict(call.headers)
    if call.seconds is not None:
        request["timeout"] = call.seconds
    return request | ({"content": call.content} if call.content is not None else {"json": body})


def read(call: Call[T], response: httpx.Response) -> T:
    check(response)
    if call.answer is None:
        return response.content  # type: ignore[return-value]
    try:
        # A newer service may say more than is known here: that is passed over.
        return call.answer.validate_python(response.json() if response.content else None, extra="ignore")
    except ValueError as error:
        kind = response.headers.get("content-type", "no type")
        raise WrongAnswerError(
            f"{response.url} answered with {kind} that cannot be read: is Plum Crate at this address, and of "
            "a version that this program knows?"
        ) from error


def check(response: httpx.Response) -> None:
    if response.is_success:
        return
    try:
        problem = Problem.model_validate_json(response.content)
    except ValidationError:
        title = f"The service answered {response.status_code} {response.reason_phrase}"
        problem = Problem(type="about:blank", title=title, status=response.status_code)
    wait = response.headers.get("retry-after", "")
    raise ProblemError(problem, float(wait) if wait.isdecimal() and len(wait) < 6 else None)


def unreachable(url: httpx.URL, error: httpx.TransportError) -> UnreachableError:
    return UnreachableError(f"the service does not answer at {url}: {error or type(error).__name__}")


def told(event: ServerSentEvent, noun: str, number: int) -> dict[str, Any] | None:
    """What an event says of the noun that is followed."""
    if event.event != noun or not event.data:
        return None
    data: dict[str, Any] = event.json()
    return data if data.get("id") == number else None
