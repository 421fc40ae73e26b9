"""Telling caches that a picture changed, by the means they share: the PURGE method for addresses, and for
tags where a header for them is set. A site that wants to hear of changed files is told of the same paths.

Addresses are noted by the database whenever a file or a copy changes; they are told in batches, and again
later where a cache does not answer. What caches say of themselves is read by RFC 9211.
"""

from __future__ import annotations

import threading
import time
from collections import OrderedDict
from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from urllib.parse import quote, urlsplit

import structlog
from http_sfv.list import List
from sqlalchemy.orm import Session

from plumcrate.contract.delivery import Delivery
from plumcrate.outgoing import CannotReach, Outgoing, host_of
from plumcrate.outgoing.delivering import Backoff, DeliveryLoop
from plumcrate.records.database import Database
from plumcrate.records.queries.purges import (
    DuePurge,
    hold,
    libraries_due,
    put_off,
    take_due,
    told,
)
from plumcrate.records.tables import Library

log = structlog.get_logger()

#: So many addresses are told of at a time, and so many tags in one request.
_BATCH, _TAGS = 200, 50
#: A cache that takes longer is told later. In one turn a cache is told for so long; what is being told is
#: nobody else's for longer than that.
SECONDS, _SHARE, _HELD = 3.0, 20.0, 120.0
#: So many caches are told at once; so much of what they were told is remembered.
_AT_ONCE, _REMEMBERED = 8, 50_000
#: Stands for the site among the caches that were told.
_SITE = ""
#: The pause before the second attempt doubles up to so many seconds. What a day of attempts did not bring
#: to a cache, its own time limits have.
_FIRST_PAUSE, _LONGEST_PAUSE = 2.0, 900.0
_BACKOFF = Backoff.doubling(_FIRST_PAUSE, _LONGEST_PAUSE, 100)


class CacheSilent(Exception):
    """A cache did not do what it was asked; the text says which, and what it said."""


@dataclass(frozen=True, slots=True)
class _LibraryPurges:
    """What is to be told of one library."""

    slug: str
    settings: Delivery
    due: Sequence[DuePurge]


@dataclass(slots=True)
class _Answered:
    """What one cache was told of: rows by id; and why not of the others, None where only time was short."""

    told: set[int] = field(default_factory=set)
    said: str | None = None


@dataclass(slots=True)
class _Silence:
    """A cache that did not answer is left alone until then; the pause doubles. ``said``: the reason."""

    until: float
    pause: float
    said: str


#: Hears of paths of a library whose files or copies changed, in the transaction that takes them up.
HearsOfChanges = Callable[[Session, Library, list[str]], None]


class Purger:
    """Tells the caches of every library, as far as ``out`` may reach them. ``changed`` hears of each change.

    Each cache is told by itself: one that is slow or silent takes no time of another's. ``clock`` in seconds.
    """

    def __init__(
        self,
        database: Database,
        out: Outgoing,
        changed: HearsOfChanges,
        clock: Callable[[], float] = time.monotonic,
    ) -> None:
        self._database, self._out, self._changed, self._clock = database, out, changed, clock
        self._pool = ThreadPoolExecutor(_AT_ONCE, thread_name_prefix="purge")
        self._loop = DeliveryLoop(self._due, self._tell_all, self._settle, at_once=_AT_ONCE)
        self._silent: dict[str, _Silence] = {}
        #: What a cache was told while another one of its library was not: (cache, row, count as read).
        self._told: OrderedDict[tuple[str, int, int], None] = OrderedDict()
        self._guard = threading.Lock()

    def turn(self) -> bool:
        """Tells of what is due now; whether there was any."""
        return self._loop.turn()

    def close(self) -> None:
        self._loop.close()
        self._pool.shutdown(wait=False, cancel_futures=True)

    def _due(self) -> list[_LibraryPurges]:
        with self._database.begin() as session:
            libraries = libraries_due(session)
        return [batch for library in libraries if (batch := self._taken(library)) is not None]

    def _tell_all(self, batch: _LibraryPurges) -> list[_Answered]:
        """Tells every cache of a library, each by itself."""
        asked = [self._pool.submit(self._tell, cache, batch) for cache in batch.settings.caches.purge]
        return [answer.result() for answer in asked]

    def _taken(self, library: Library) -> _LibraryPurges | None:
        settings = Delivery.model_validate(library.delivery)
        with self._database.begin() as session:
            due = take_due(session, library.id, _BATCH)
            fresh = [row for row in due if (_SITE, row.id, row.asked) not in self._told]
            if fresh:
                self._changed(session, library, [row.path for row in fresh])
            hold(session, due, _HELD)
        for row in fresh:
            self._remember(_SITE, row)
        return _LibraryPurges(library.slug, settings, due) if due else None

    def _settle(self, batch: _LibraryPurges, answers: list[_Answered]) -> None:
        done = [row for row in batch.due if all(row.id in answer.told for answer in answers)]
        rest = [row for row in batch.due if row not in done]
        said = next((answer.said for answer in answers if answer.said is not None), None)
        with self._database.begin() as session:
            if done:
                told(session, done)
            if rest and said is None:
                hold(session, rest, 0)  # only time was short
        if done:
            if batch.settings.caches.purge:
                log.info("caches were told", library=batch.slug, addresses=len(done))
            with self._guard:
                for cache in (_SITE, *batch.settings.caches.purge):
                    for row in done:
                        self._told.pop((cache, row.id, row.asked), None)
        if rest and said is not None:
            self._later(rest, said, batch.slug)

    # -- one cache ----------------------------------------------------------------------------

    def _tell(self, cache: str, batch: _LibraryPurges) -> _Answered:
        """Tells one cache, for a while at most."""
        answered, ends = _Answered(), self._clock() + _SHARE
        silence = self._silent.get(cache)
        for row in batch.due:
            if (cache, row.id, row.asked) in self._told:
                answered.told.add(row.id)
        if silence is not None and self._clock() < silence.until:
            answered.said = silence.said
            return answered
        try:
            for row in batch.due:
                if row.id in answered.told:
                    continue
                if self._clock() > ends:
                    break
                for address in addresses_of([row.path], batch.settings):
                    target = f"{cache.rstrip('/')}{urlsplit(address).path}"
                    self._ask(cache, target, {"Host": host_of(address)})
                answered.told.add(row.id)
                self._remember(cache, row)
            self._tell_tags(cache, batch, answered.told)
        except CacheSilent as error:
            pause = min(_LONGEST_PAUSE, 2 * silence.pause if silence is not None else _FIRST_PAUSE)
            self._silent[cache] = _Silence(self._clock() + pause, pause, str(error))
            answered.said = str(error)
            return answered
        self._silent.pop(cache, None)
        return answered

    def _remember(self, cache: str, row: DuePurge) -> None:
        with self._guard:
            self._told[cache, row.id, row.asked] = None
            while len(self._told) > _REMEMBERED:
                self._told.popitem(last=False)

    def _tell_tags(self, cache: str, batch: _LibraryPurges, rows: set[int]) -> None:
        settings = batch.settings
        header = settings.caches.tag_header
        if header is None:
            return
        pictures = {row.picture_id for row in batch.due if row.picture_id and row.id in rows}
        tags = sorted(tag_of(batch.slug, number) for number in pictures)
        hosts = [host_of(each) for each in (settings.address, settings.base) if each is not None]
        for at in range(0, len(tags), _TAGS):
            for host in dict.fromkeys(hosts or [host_of(cache)]):
                self._ask(
                    cache, f"{cache.rstrip('/')}/", {"Host": host, header: ", ".join(tags[at : at + _TAGS])}
                )

    def _ask(self, cache: str, target: str, headers: dict[str, str]) -> None:
        try:
            answer = self._out.ask("PURGE", target, headers=headers)
        except CannotReach as error:
            raise CacheSilent(f"the cache {cache}: {error}") from None
        # What a cache does not hold need not be purged.
        if not 200 <= answer.status < 300 and answer.status != 404:
            raise CacheSilent(f"the cache {cache} answered PURGE with {answer.status}")
        status = answer.headers.get("cache-status")
        if status:
            log.debug("a cache was told", address=target, said=said_by(status))

    def _later(self, due: Sequence[DuePurge], said: str, slug: str) -> None:
        log.warning("caches could not be told", library=slug, addresses=len(due), reason=said)
        with self._database.begin() as session:
            for attempts in {row.attempts for row in due}:
                these = [row for row in due if row.attempts == attempts]
                pause = _BACKOFF.after(attempts + 1)
                if pause is None:
                    told(session, these)
                else:
                    put_off(session, these, pause, said)


def addresses_of(paths: Iterable[str], settings: Delivery) -> list[str]:
    """Where visitors fetch files: on the site, and at the address for copies."""
    homes = [each.rstrip("/") for each in (settings.address, settings.base) if each is not None]
    return [f"{home}/{quote(path, safe=_SAFE)}" for path in paths for home in homes]


_SAFE = "/-._~!$&'()*+,;=:@"


def tag_of(slug: str, picture_id: int) -> str:
    """The tag of all that is served of a picture."""
    return f"{slug}-{picture_id}"


def said_by(cache_status: str) -> str:
    """What ``Cache-Status`` says, in plain words: each cache by its name, the one nearest to the origin first
    (RFC 9211, section 2). A value that is no structured field (RFC 9651) says nothing."""
    if not cache_status.strip():
        return ""
    members = List()
    try:
        members.parse(cache_status.encode())
    except ValueError:
        return "its Cache-Status cannot be read"
    said = []
    for member in members:
        values = dict(member.params)
        if "hit" in values:
            words = "from its store"
        elif "fwd" in values:
            reason = str(values["fwd"])
            words = f"fetched anew ({_REASONS.get(reason, reason)})"
        else:
            words = "nothing said"
        if "ttl" in values:
            words += f", {values['ttl']} s left"
        if "stored" in values:
            words += ", kept"
        said.append(f"{member.value}: {words}")
    return "; ".join(said)


#: Section 2.2.
_REASONS = {
    "bypass": "told not to use its store",
    "method": "for its method",
    "uri-miss": "not held",
    "vary-miss": "held in other forms only",
    "miss": "not held",
    "request": "as the request asked",
    "stale": "too old",
    "partial": "held in part",
}
