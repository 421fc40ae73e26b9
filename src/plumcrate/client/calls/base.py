"""One request of the API as data: the calls from which both clients have their methods."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Generic, TypeVar
from urllib.parse import quote

from pydantic import BaseModel, TypeAdapter

from plumcrate.client.errors import WrongNameError

T = TypeVar("T")
Params = Mapping[str, Any]


@dataclass(frozen=True, slots=True)
class Call(Generic[T]):
    """One request and how its answer is read; None: as bytes. ``seconds``: how long to wait when it is not
    the usual."""

    method: str
    path: str
    answer: TypeAdapter[T] | None
    params: Params | None = None
    body: BaseModel | None = None
    content: bytes | None = None
    headers: Mapping[str, str] | None = None
    seconds: float | None = None


def get(path: str, answer: type[T], /, **params: Any) -> Call[T]:
    given = {name: value for name, value in params.items() if value is not None}
    return Call("GET", path, TypeAdapter(answer), given)


def post(path: str, answer: type[T], body: BaseModel | None = None) -> Call[T]:
    return Call("POST", path, TypeAdapter(answer), body=body)


def within(library: str | None) -> str:
    return "" if library is None else f"/libraries/{part(library)}"


def part(name: str | int) -> str:
    """A name or a number as one part of a path. Raises WrongNameError where it can be none."""
    if name in ("", ".", ".."):
        raise WrongNameError(f'"{name}" cannot be a name')
    return quote(str(name), safe="")


def if_match(version: str | None) -> dict[str, str]:
    """The header that names a version of a file, or ``*`` for any; none without one."""
    return {} if version is None else {"If-Match": version if version == "*" else f'"{version}"'}
