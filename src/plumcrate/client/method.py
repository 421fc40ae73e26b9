"""Calls as methods of what they are about. Those of the asynchronous client are awaited."""

from __future__ import annotations

import functools
from collections.abc import AsyncIterator, Awaitable, Callable, Iterator
from dataclasses import replace
from typing import TYPE_CHECKING, Any, Generic, ParamSpec, TypeVar, overload

from plumcrate.contract.common import Page

from .calls import Call

if TYPE_CHECKING:
    from .async_clients import AsyncClient
    from .clients import Client

P = ParamSpec("P")
T = TypeVar("T")
C = TypeVar("C")

#: As many rows as one page may have.
_MOST = 500


class Resource(Generic[C]):
    """What is asked about one thing, through a client."""

    def __init__(self, client: C) -> None:
        self.client = client


class Method(Generic[P, T]):
    """A call as a method: it takes what the call takes, and sends it."""

    def __init__(self, call: Callable[P, Call[T]]) -> None:
        self._call = call
        self.__doc__ = call.__doc__

    @overload
    def __get__(self, resource: None, owner: Any) -> Method[P, T]: ...
    @overload
    def __get__(self, resource: Resource[Client], owner: Any) -> Callable[P, T]: ...
    @overload
    def __get__(self, resource: Resource[AsyncClient], owner: Any) -> Callable[P, Awaitable[T]]: ...
    def __get__(self, resource: Resource[Any] | None, owner: Any) -> Any:
        if resource is None:
            return self
        send: Callable[[Call[T]], Any] = resource.client.send

        @functools.wraps(self._call)
        def method(*arguments: P.args, **named: P.kwargs) -> Any:
            return send(self._call(*arguments, **named))

        return method


class Each(Generic[P, T]):
    """A list as a method that goes through all of it, page by page; it takes what the call for a page
    takes."""

    def __init__(self, call: Callable[P, Call[Page[T]]]) -> None:
        self._call = call
        self.__doc__ = f"Every one, page by page. {call.__doc__ or ''}".strip()

    @overload
    def __get__(self, resource: None, owner: Any) -> Each[P, T]: ...
    @overload
    def __get__(self, resource: Resource[Client], owner: Any) -> Callable[P, Iterator[T]]: ...
    @overload
    def __get__(self, resource: Resource[AsyncClient], owner: Any) -> Callable[P, AsyncIterator[T]]: ...
    def __get__(self, resource: Resource[Any] | None, owner: Any) -> Any:
        if resource is None:
            return self
        walk: Callable[[Call[Page[T]]], Any] = resource.client.walk

        @functools.wraps(self._call)
        def method(*arguments: P.args, **named: P.kwargs) -> Any:
            call = self._call(*arguments, **named)
            return walk(replace(call, params={**(call.params or {}), "limit": _MOST}))

        return method
