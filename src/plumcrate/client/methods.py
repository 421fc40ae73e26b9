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
    settings = Method(calls.settings)
    formats = Method(calls.formats)
    keys = Method(calls.keys)
    make_key = Method(calls.make_key)
    make_library_key = Method(calls.make_library_key)
    rotate_key = Method(calls.rotate_key)
    revoke_key = Method(calls.revoke_key)
    people = Method(calls.people)
    change_person = Method(calls.change_person)
    remove_person = Method(calls.remove_person)
    new_password = Method(calls.new_password)
    members = Method(calls.members)
    change_member = Method(calls.change_member)
    remove_member = Method(calls.remove_member)
    invitations = Method(calls.invitations)
    invite = Method(calls.invite)
    invite_member = Method(calls.invite_member)
    take_back = Method(calls.take_back)
    audit = Method(calls.audit)
    audit_export = Method(calls.audit_export)
    allowance = Method(calls.allowance)
    set_allowance = Method(calls.set_allowance)
    webhook = Method(calls.webhook)
    set_webhook = Method(calls.set_webhook)
    make_webhook_secret = Method(calls.make_webhook_secret)
    try_webhook = Method(calls.try_webhook)
    report = Method(calls.report)
    report_file = Method(calls.report_file)
    report_settings = Method(calls.report_settings)
    set_report_settings = Method(calls.set_report_settings)
    kept_reports = Method(calls.kept_reports)
    kept_report = Method(calls.kept_report)
    keep_report = Method(calls.keep_report)
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
    page_faults = Method(calls.page_faults)
    page = Method(calls.page)
    weigh = Method(calls.weigh)
    site_pages = Method(calls.site_pages)
    site_page = Method(calls.site_page)
    change_page = Method(calls.change_page)
    forget_page = Method(calls.forget_page)
    weighings = Method(calls.weighings)
    page_history = Method(calls.page_history)
    weighing = Method(calls.weighing)
    shot = Method(calls.shot)
    treat_page = Method(calls.treat_page)
    note_need = Method(calls.note_need)
    needs = Method(calls.needs)
    forget_need = Method(calls.forget_need)
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
    sizes = Method(calls.sizes)
    save_size = Method(calls.save_size)
    remove_size = Method(calls.remove_size)
    size_effect = Method(calls.size_effect)
    ladder = Method(calls.ladder)
    unused_sizes = Method(calls.unused_sizes)
    let_unused_go = Method(calls.let_unused_go)
    bring_back = Method(calls.bring_back)
    cuts = Method(calls.cuts)
    set_focus = Method(calls.set_focus)
    touches = Method(calls.touches)
    touch_up = Method(calls.touch_up)
    touch_up_several = Method(calls.touch_up_several)
    view_touches = Method(calls.view_touches)
    marks = Method(calls.marks)
    save_mark = Method(calls.save_mark)
    set_mark_picture = Method(calls.set_mark_picture)
    remove_mark = Method(calls.remove_mark)
