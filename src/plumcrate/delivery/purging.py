"""Telling caches that a picture changed, by the means they share: the PURGE method for addresses, and for
tags where a header for them is set.

Addresses are noted by the database whenever a file or a copy changes; they are told in batches, and again
later where a cache does not answer. What caches say of themselves is read by RFC 9211.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from urllib.parse import quote, urlsplit

import structlog

from plumcrate.contract import Delivery
from plumcrate.outgoing import CannotReach, Outgoing, host_of
from plumcrate.records.database import Database
from plumcrate.records.queries.purges import Due, forget_all, hold, libraries_due, put_off, take_due, told

log = structlog.get_logger()

#: So many addresses are told of at a time, and so many tags in one request.
_BATCH, _TAGS = 200, 50
#: A cache that takes longer is told later; what is being told is nobody else's for so long.
SECONDS, _HELD = 3.0, 120.0
#: The pause before the second attempt doubles up to so many seconds. What a day of attempts did not bring
#: to a cache, its own time limits have.
_FIRST_PAUSE, _LONGEST_PAUSE, _MOST_ATTEMPTS = 2.0, 900.0, 100


class CacheSilent(Exception):
    """A cache did not do what it was asked; the text says which, and what it said."""


class Purger:
    """Tells the caches of every library, as far as ``out`` may reach them."""

    def __init__(self, database: Database, out: Outgoing) -> None:
        self._database, self._out = database, out

    def turn(self) -> bool:
        """Tells of what is due now; whether there was any."""
        with self._database.begin() as session:
            libraries = libraries_due(session)
        for library in libraries:
            self._tell(library.id, library.slug, Delivery.model_validate(library.delivery))
        return bool(libraries)

    def _tell(self, library_id: int, slug: str, settings: Delivery) -> None:
        if not settings.caches.purge:
            with self._database.begin() as session:
                forget_all(session, library_id)
            return
        with self._database.begin() as session:
            due = take_due(session, library_id, _BATCH)
            hold(session, due, _HELD)
        if not due:
            return
        try:
            for cache in settings.caches.purge:
                self._tell_one(cache, slug, due, settings)
        except CacheSilent as error:
            self._later(due, str(error), slug)
            return
        with self._database.begin() as session:
            told(session, due)
        log.info("caches were told", library=slug, addresses=len(due))

    def _tell_one(self, cache: str, slug: str, due: Sequence[Due], settings: Delivery) -> None:
        """Tells one cache. Raises :class:`CacheSilent`."""
        for address in addresses_of((row.path for row in due), settings):
            target = f"{cache.rstrip('/')}{urlsplit(address).path}"
            self._ask(cache, target, {"Host": host_of(address)})
        header = settings.caches.tag_header
        if header is None:
            return
        tags = sorted({tag_of(slug, row.picture_id) for row in due if row.picture_id})
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

    def _later(self, due: Sequence[Due], said: str, slug: str) -> None:
        log.warning("caches could not be told", library=slug, addresses=len(due), reason=said)
        spent = [row for row in due if row.attempts + 1 >= _MOST_ATTEMPTS]
        with self._database.begin() as session:
            if spent:
                told(session, spent)
            for attempts in {row.attempts for row in due}:
                these = [row for row in due if row.attempts == attempts and row not in spent]
                pause = min(_LONGEST_PAUSE, _FIRST_PAUSE * 2.0 ** min(attempts, 20))
                if these:
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
    (RFC 9211, section 2)."""
    said = []
    for member in _split(cache_status, ","):
        name, *parameters = (part.strip() for part in _split(member, ";"))
        values = dict(_pair(parameter) for parameter in parameters)
        if "hit" in values:
            words = "from its store"
        elif "fwd" in values:
            words = f"fetched anew ({_REASONS.get(values['fwd'], values['fwd'])})"
        else:
            words = "nothing said"
        if "ttl" in values:
            words += f", {values['ttl']} s left"
        if "stored" in values:
            words += ", kept"
        said.append(f"{name.strip(chr(34))}: {words}")
    return "; ".join(said)


#: Section 2.2.
_REASONS = {
    "bypass": "told not to use its store", "method": "for its method", "uri-miss": "not held",
    "vary-miss": "held in other forms only", "miss": "not held", "request": "as the request asked",
    "stale": "too old", "partial": "held in part",
}  # fmt: skip


def _pair(parameter: str) -> tuple[str, str]:
    name, _, value = parameter.partition("=")
    return name.strip(), value.strip().strip('"')


def _split(text: str, sign: str) -> list[str]:
    """Parts between a sign, quoted strings whole (RFC 8941, section 3.3.3)."""
    parts, quoted, start = [], False, 0
    for at, each in enumerate(text):
        if each == '"' and text[at - 1 : at] != "\\":
            quoted = not quoted
        elif each == sign and not quoted:
            parts.append(text[start:at])
            start = at + 1
    return [part for part in (*parts, text[start:]) if part.strip()]
