"""Telling the service which files the site wrote or deleted: soon, in batches, again where it was away."""

from __future__ import annotations

import atexit
import json
import logging
import secrets
import threading
import time
from collections import OrderedDict
from collections.abc import Callable
from datetime import UTC, datetime
from functools import lru_cache
from typing import Any

import httpx
from django.core.signals import setting_changed
from standardwebhooks import Webhook

from plumcrate.contract.mapping import MappedRendition

from .conf import SiteSettings, site

log = logging.getLogger(__name__)

#: So many seconds more is waited for, so many paths are told at once, and so many wait at most.
_GATHER, _BATCH, _MOST = 0.2, 500, 20_000
#: The pause after a failure doubles, up to so many seconds.
_FIRST, _LONGEST = 1.0, 300.0


class Teller:
    """Takes paths from any thread and sends them in one of its own, which begins with the first path.

    What waits when the process ends, or more than it may hold, is found by the library's next survey.
    """

    def __init__(self, settings: SiteSettings, http: httpx.Client | None = None) -> None:
        self._settings = settings
        self._http = http or httpx.Client(timeout=10.0)
        self._waiting: OrderedDict[str, MappedRendition | None] = OrderedDict()
        self._some = threading.Condition()
        self._thread: threading.Thread | None = None
        self._ending = False

    def tell(self, path: str, made_of: MappedRendition | None = None) -> None:
        """``made_of``: says that the file is a rendition, and whose."""
        with self._some:
            self._waiting.pop(path, None)
            self._waiting[path] = made_of
            while len(self._waiting) > _MOST:
                self._waiting.popitem(last=False)
            if self._thread is None or not self._thread.is_alive():
                self._thread = threading.Thread(target=self._work, name="plumcrate-telling", daemon=True)
                self._thread.start()
            self._some.notify()

    def close(self, seconds: float = 2.0) -> None:
        """Sends what waits, if that takes no longer."""
        with self._some:
            self._ending = True
            self._some.notify()
        if self._thread is not None:
            self._thread.join(seconds)

    def _work(self) -> None:
        pause = _FIRST
        while batch := self._next():
            try:
                self._send(batch)
                pause = _FIRST
            except httpx.HTTPError as error:
                log.warning("Plum Crate was not told of %d files; it is tried again: %s", len(batch), error)
                self._put_back(batch)
                if self._ending:
                    return
                time.sleep(pause)
                pause = min(_LONGEST, 2 * pause)

    def _next(self) -> dict[str, MappedRendition | None]:
        with self._some:
            while not self._waiting and not self._ending:
                self._some.wait()
        if not self._ending:
            time.sleep(_GATHER)
        with self._some:
            return dict(self._waiting.popitem(last=False) for _ in range(min(_BATCH, len(self._waiting))))

    def _put_back(self, batch: dict[str, MappedRendition | None]) -> None:
        with self._some:
            for path, made_of in reversed(batch.items()):
                if path not in self._waiting:
                    self._waiting[path] = made_of
                    self._waiting.move_to_end(path, last=False)

    def _send(self, batch: dict[str, MappedRendition | None]) -> None:
        """Raises httpx.HTTPError where it may be tried again."""
        renditions = [made_of.model_dump() for made_of in batch.values() if made_of is not None]
        data = {"paths": list(batch), "renditions": renditions, "whole": True}
        event = {"type": "files.changed", "data": data}
        body, now = json.dumps(event), datetime.now(UTC)
        number = f"msg_{secrets.token_urlsafe(18)}"
        headers = {
            "Content-Type": "application/json",
            "webhook-id": number,
            "webhook-timestamp": str(int(now.timestamp())),
            "webhook-signature": Webhook(self._settings.hook_secret).sign(number, now, body),
        }
        address = f"{self._settings.url.rstrip('/')}/api/v1/hooks/{self._settings.library}"
        answer = self._http.post(address, content=body, headers=headers)
        if answer.status_code in (400, 401, 413, 422):
            log.error("Plum Crate refuses to be told of files: %s", answer.text[:500])
            return
        answer.raise_for_status()


@lru_cache(maxsize=1)
def teller() -> Teller:
    """The teller of this process."""
    made = Teller(site())
    atexit.register(made.close)
    return made


def _forget(*, setting: str, **_: Any) -> None:
    if setting == "PLUMCRATE":
        teller.cache_clear()


setting_changed.connect(_forget)

#: Says of what a file is a rendition, if it is one: by the model's instance and the file's name.
MadeOf = Callable[[Any, str], MappedRendition | None]
_SAYING: list[MadeOf] = []


def register_made_of(says: MadeOf) -> MadeOf:
    """For apps that know a CMS's renditions."""
    _SAYING.append(says)
    return says


def made_of(instance: Any, name: str) -> MappedRendition | None:
    """What the registered apps say."""
    return next((said for says in _SAYING if (said := says(instance, name)) is not None), None)
