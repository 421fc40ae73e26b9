"""A call as a method of both clients. Those of the asynchronous one are awaited."""

from __future__ import annotations

import functools
from collections.abc import Awaitable, Callable
from typing import TYPE_CHECKING, Any, Generic, ParamSpec, TypeVar, overload

from .calls import Call

if TYPE_CHECKING:
    from .clients import AsyncClient, Client

P = ParamSpec("P")
T = TypeVar("T")


class Method(Generic[P, T]):
    """A call as a method: it takes what the call takes, and sends it."""

    def __init__(self, call: Callable[P, Call[T]]) -> None:
        self._call = call
        self.__doc__ = call.__doc__

    @overload
    def __get__(self, client: None, owner: Any) -> Method[P, T]: ...
    @overload
    def __get__(self, client: Client, owner: Any) -> Callable[P, T]: ...
    @overload
    def __get__(self, client: AsyncClient, owner: Any) -> Callable[P, Awaitable[T]]: ...
    def __get__(self, client: Client | AsyncClient | None, owner: Any) -> Any:
        if client is None:
            return self
        send: Callable[[Call[T]], Any] = client.send

        @functools.wraps(self._call)
        def method(*arguments: P.args, **named: P.kwargs) -> Any:
            return send(self._call(*arguments, **named))

        return method
