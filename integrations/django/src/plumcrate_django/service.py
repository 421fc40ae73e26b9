"""The service as the site sees it. Whatever the service does, the site goes on."""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Callable, Iterable
from functools import lru_cache, partial
from typing import Any, TypeVar

from django.core.cache import cache
from django.core.signals import setting_changed

from plumcrate.client import Client, ClientError
from plumcrate.client.pages import SitePages
from plumcrate.contract.site_files import SiteFile

from .conf import SiteSettings, site

log = logging.getLogger(__name__)

T = TypeVar("T")

#: A service that did not answer is left alone for so many seconds.
_QUIET = 30.0
_MOST_ASKED = 1_000
#: Counts, in the site's cache, how often the service said that pictures changed.
_CHANGES = "plumcrate:changes"


class Service:
    """One for each process of the site; safe in threads."""

    def __init__(self, settings: SiteSettings, client: Client | None = None) -> None:
        self.settings = settings
        self.client = client or Client(settings.url, settings.key, timeout=settings.seconds, patience=0)
        self._pages = SitePages(self.client, settings.library)
        self._quiet_until = 0.0
        self._seen: Any = None
        self._guard = threading.Lock()

    @property
    def pages(self) -> SitePages:
        """What rewrites pages; it knows anew what changed since it was last used."""
        changes = cache.get(_CHANGES)
        with self._guard:
            stale, self._seen = changes != self._seen, changes
        if stale:
            self._pages.forget()
        return self._pages

    def files(self, names: Iterable[str]) -> dict[str, SiteFile]:
        """What is on record of files, by their names in the site's storage. Without an answer: nothing."""
        paths = [path for name in dict.fromkeys(names) if (path := self.settings.path_of(name)) is not None]
        found: dict[str, SiteFile] = {}
        for start in range(0, len(paths), _MOST_ASKED):
            part = paths[start : start + _MOST_ASKED]
            rows = self.asked(partial(self.client.libraries.site_files, self.settings.library, part))
            for row in rows or []:
                found[self.settings.name_of(row.path)] = row
        return found

    def original(self, name: str) -> bytes | None:
        """A file's bytes as the site first wrote them; None where the file as it stands is what there is."""
        file = self.files([name]).get(name)
        if file is None or not file.has_original or file.size_before == file.size_now:
            return None
        return self.asked(lambda: self.client.pictures.content(file.file_id, "before"))

    def asked(self, question: Callable[[], T]) -> T | None:
        """An answer of the service; None without one, and then it is left alone for a while."""
        if time.monotonic() < self._quiet_until:
            return None
        try:
            return question()
        except (ClientError, ValueError) as error:
            self._quiet_until = time.monotonic() + _QUIET
            log.warning("Plum Crate does not answer; the site goes on without it: %s", error)
            return None


def note_changes() -> None:
    """Lets every process of the site know that pictures changed, as far as they share a cache."""
    cache.set(_CHANGES, time.time_ns(), None)
    service().pages  # noqa: B018 - it forgets


@lru_cache(maxsize=1)
def service() -> Service:
    """The service of this process."""
    return Service(site())


def _forget(*, setting: str, **_: Any) -> None:
    if setting == "PLUMCRATE":
        service.cache_clear()


setting_changed.connect(_forget)
