"""The methods of both clients, from the one list of calls. Those of the asynchronous one are awaited."""

from __future__ import annotations

import functools
from collections.abc import Awaitable, Callable
from typing import TYPE_CHECKING, Any, Generic, ParamSpec, TypeVar, overload

from . import calls
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


class Methods:
    """What a client can do; each is explained at its call in :mod:`.calls`."""

    health = Method(calls.health)
    who = Method(calls.who)
    machine = Method(calls.machine)
    formats = Method(calls.formats)
    make_key = Method(calls.make_key)
    libraries = Method(calls.libraries)
    library = Method(calls.library)
    connect = Method(calls.connect)
    server_rules = Method(calls.server_rules)
    ask = Method(calls.ask)
    purges = Method(calls.purges)
    traffic = Method(calls.traffic)
    log_position = Method(calls.log_position)
    count_log = Method(calls.count_log)
    page_files = Method(calls.page_files)
    page = Method(calls.page)
    change_library = Method(calls.change_library)
    disconnect = Method(calls.disconnect)
    savings = Method(calls.savings)
    pictures = Method(calls.pictures)
    picture = Method(calls.picture)
    set_own = Method(calls.set_own)
    plan = Method(calls.plan)
    content = Method(calls.content)
    recipe = Method(calls.recipe)
    recipes = Method(calls.recipes)
    save_recipe = Method(calls.save_recipe)
    effect = Method(calls.effect)
    start_run = Method(calls.start_run)
    runs = Method(calls.runs)
    run = Method(calls.run)
    items = Method(calls.items)
    pause = Method(calls.pause)
    resume = Method(calls.resume)
    stop = Method(calls.stop)
    retry = Method(calls.retry)
    start_survey = Method(calls.start_survey)
    start_check = Method(calls.start_check)
    start_forecast = Method(calls.start_forecast)
    prune = Method(calls.prune)
    jobs = Method(calls.jobs)
    job = Method(calls.job)
    stop_job = Method(calls.stop_job)
    backups = Method(calls.backups)
    orphans = Method(calls.orphans)
    rescue = Method(calls.rescue)
    recognise = Method(calls.recognise)
    hook_secret = Method(calls.hook_secret)
    upload = Method(calls.upload)
