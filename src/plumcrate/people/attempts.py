"""Slows guessing without letting a stranger lock anybody out.

A try counts before its password is checked, so that many at once are no more than one after another. Tries
are counted by the address that they come from and by the account that they are for. A browser that once
signed in to an account bears a sealed name, and is counted by that name, and by the account among all
browsers that are known to it: whatever strangers try from elsewhere, its owner may try on."""

from __future__ import annotations

import threading
import time
from collections import deque

from plumcrate.refusal import Refusal

from .tokens import sha256

_MOST_KEPT = 20_000


class Attempts:
    """So many failed tries in ``seconds``; one that succeeds is taken back."""

    def __init__(self, most: int = 10, most_an_account: int = 30, seconds: float = 300.0) -> None:
        self._most = {
            "address": most,
            "account": most_an_account,
            "browser": most,
            "known to": most_an_account,
        }
        self._seconds = seconds
        self._tries: dict[tuple[str, str], deque[float]] = {}
        self._lock = threading.Lock()

    def begin(self, address: str, account: str, browser: str | None = None) -> None:
        """``browser``: the sealed name of one that is known to the account. Raises :class:`Refusal` when it
        is too often."""
        keys = self._keys(address, account, browser)
        with self._lock:
            now = time.monotonic()
            if len(self._tries) > _MOST_KEPT:
                self._forget(now)
            for key in keys:
                times = self._tries.setdefault(key, deque())
                while times and times[0] < now - self._seconds:
                    times.popleft()
                if len(times) >= self._most[key[0]]:
                    raise Refusal("too-many-attempts", "wait five minutes, then try again")
            for key in keys:
                self._tries[key].append(now)

    def take_back(self, address: str, account: str, browser: str | None = None) -> None:
        """It was no guess."""
        with self._lock:
            for key in self._keys(address, account, browser):
                if self._tries.get(key):
                    self._tries[key].pop()

    @staticmethod
    def _keys(address: str, account: str, browser: str | None) -> list[tuple[str, str]]:
        if browser is not None:
            return [("browser", browser), ("known to", sha256(account).hex())]
        return [("address", address), ("account", sha256(account).hex())]

    def _forget(self, now: float) -> None:
        """The oldest go when many addresses tried; those that are slowed stay."""
        self._tries = {
            key: times for key, times in self._tries.items() if times and times[-1] > now - self._seconds
        }
        if len(self._tries) > _MOST_KEPT:
            least = sorted(self._tries, key=lambda key: len(self._tries[key]))
            for key in least[: len(self._tries) - _MOST_KEPT // 2]:
                del self._tries[key]
