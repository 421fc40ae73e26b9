"""One way to deliver what is due, whatever it is: messages to webhooks, purges to caches.

What is due is taken from the records and held, so that nobody else delivers it meanwhile; it is sent, several
at once; then it is settled: delivered, put off for longer and longer, or given up.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import Generic, TypeVar

Due = TypeVar("Due")
Answered = TypeVar("Answered")


class Undelivered(Exception):
    """Something was not taken; the text says why. ``for_good``: it need not be tried again."""

    def __init__(self, text: str, *, for_good: bool = False) -> None:
        super().__init__(text)
        self.for_good = for_good


@dataclass(frozen=True, slots=True)
class Backoff:
    """Pauses before further attempts, in seconds; after the last of them it is given up."""

    pauses: Sequence[float]

    @classmethod
    def doubling(cls, first: float, longest: float, attempts: int) -> Backoff:
        """``attempts`` in all, each pause twice the one before, up to ``longest``."""
        pauses = (min(longest, first * 2.0 ** min(number, 30)) for number in itertools.count())
        return cls(tuple(itertools.islice(pauses, attempts - 1)))

    def after(self, attempts: int) -> float | None:
        """The pause after so many attempts; None: given up."""
        return self.pauses[attempts - 1] if attempts <= len(self.pauses) else None


class DeliveryLoop(Generic[Due, Answered]):
    """``take`` gets what is due and holds it, ``send`` delivers one of it and never raises, ``settle``
    records how it fared. ``at_once``: so many are sent side by side."""

    def __init__(
        self,
        take: Callable[[], Iterable[Due]],
        send: Callable[[Due], Answered],
        settle: Callable[[Due, Answered], None],
        *,
        at_once: int = 1,
    ) -> None:
        self._take, self._send, self._settle = take, send, settle
        self._pool = ThreadPoolExecutor(at_once, thread_name_prefix="deliver")

    def turn(self) -> bool:
        """Delivers what is due now; whether there was any."""
        due = list(self._take())
        for one, answered in zip(due, self._pool.map(self._send, due), strict=True):
            self._settle(one, answered)
        return bool(due)

    def close(self) -> None:
        self._pool.shutdown(wait=False, cancel_futures=True)
