"""One line of an access log: Common or Combined Log Format, or a JSON object."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from datetime import UTC, date, datetime
from functools import lru_cache
from typing import Any, NamedTuple
from urllib.parse import unquote_to_bytes, urlsplit

#: From the time on, so that whatever stands before it (hosts, users, ports) is of no matter.
_COMMON = re.compile(
    rb'\[(\d\d/[A-Z][a-z]{2}/\d{4}):[^\]]{1,40}\] "GET ([^ "]+)(?: [^"]{0,20})?" (\d{3}) '
    rb"(\d{1,13}|-)(?=[ \t\r\n]|\Z)"
    rb'(?: "[^"\\]*+(?:\\.[^"\\]*+)*+" "([^"\\]*+(?:\\.[^"\\]*+)*+)")?'
)
_MONTHS = {
    name: number
    for number, name in enumerate(
        (b"Jan", b"Feb", b"Mar", b"Apr", b"May", b"Jun", b"Jul", b"Aug", b"Sep", b"Oct", b"Nov", b"Dec"), 1
    )
}
#: An answer of more bytes is no picture; whoever wrote such a line wanted the sums to overflow.
MOST_SENT = 10**12
#: What loggers of JSON call things.
_METHOD = ("method", "request_method", "verb")
_ADDRESS = ("uri", "request_uri", "path", "url", "target")
_STATUS = ("status", "status_code", "response_code")
_BYTES = ("body_bytes_sent", "size", "bytes", "bytes_sent", "length", "response_size")
_TIME = ("time_iso8601", "time", "timestamp", "@timestamp", "ts", "time_local", "date")
_AGENT = ("http_user_agent", "user_agent", "agent", "useragent")


class Hit(NamedTuple):
    """One answer to a GET: ``path`` is the address without its query, decoded; ``part``: not the whole."""

    day: date
    path: bytes
    bytes: int
    part: bool
    agent: str | None


def hit_of(line: bytes) -> Hit | None:
    """What a line says; None for anything but a picture's worth of bytes sent, and for lines of other
    kinds."""
    if line[:1] == b"{":
        return _of_json(line)
    match = _COMMON.search(line)
    if match is None:
        return None
    day, address, status, size, agent = match.groups()
    if status not in (b"200", b"206") or size == b"-":
        return None
    found = _day(day)
    if found is None or int(size) > MOST_SENT:
        return None
    told = agent.decode("latin-1") if agent is not None else None
    return Hit(found, path_of(address), int(size), status == b"206", told)


@lru_cache(maxsize=64)
def _day(text: bytes) -> date | None:
    day, month, year = text.split(b"/")
    try:
        return date(int(year), _MONTHS[month], int(day))
    except (KeyError, ValueError):
        return None


@lru_cache(maxsize=65_536)
def path_of(address: bytes) -> bytes:
    """The path of a request's target, which may be a whole address (RFC 9112, section 3.2)."""
    path = address.partition(b"?")[0].partition(b"#")[0]
    if not path.startswith(b"/"):
        try:
            path = urlsplit(path).path
        except ValueError:
            return b""
    return unquote_to_bytes(path) if b"%" in path else path


def _of_json(line: bytes) -> Hit | None:
    try:
        told = json.loads(line)
    except (ValueError, RecursionError):
        return None
    if not isinstance(told, dict):
        return None
    nested = told.get("request")
    fields: dict[str, Any] = told | (nested if isinstance(nested, dict) else {})
    method, address = _first(fields, _METHOD), _first(fields, _ADDRESS)
    if isinstance(nested, str) and (method is None or address is None):
        parts = nested.split(" ")
        method, address = (parts[0], parts[1]) if len(parts) > 1 else (method, address)
    status, size, when = _first(fields, _STATUS), _first(fields, _BYTES), _first(fields, _TIME)
    day = _any_day(when)
    if method != "GET" or not isinstance(address, str) or day is None:
        return None
    try:
        sent, code = int(size), int(status)
    except (TypeError, ValueError, OverflowError):
        return None
    if code not in (200, 206) or not 0 <= sent <= MOST_SENT:
        return None
    agent = _first(fields, _AGENT)
    headers = fields.get("headers")
    if agent is None and isinstance(headers, dict):
        agent = next((value for name, value in headers.items() if name.lower() == "user-agent"), None)
    if isinstance(agent, list):
        agent = agent[0] if agent else None
    path = path_of(address.encode("utf-8", "surrogatepass"))
    return Hit(day, path, sent, code == 206, agent if isinstance(agent, str) else None)


def _first(fields: dict[str, Any], names: tuple[str, ...]) -> Any:
    return next((fields[name] for name in names if fields.get(name) is not None), None)


def _any_day(when: Any) -> date | None:
    """A day from seconds since 1970, ISO 8601, or the Common Log Format's own."""
    try:
        if isinstance(when, int | float) and not isinstance(when, bool):
            seconds = when / 1_000 if when > 1e11 else when
            return datetime.fromtimestamp(seconds, UTC).date()
        if isinstance(when, str):
            if when[:1] == "[" or "/" in when[:7]:
                return _day(when.lstrip("[")[:11].encode())
            return date.fromisoformat(when[:10])
    except (ValueError, OverflowError, OSError):
        return None
    return None


def whole_lines(chunks: Iterator[bytes], longest: int) -> Iterator[tuple[bytes, int]]:
    """Lines with the number of bytes that each takes, its end among them. A line that has not ended is not
    given; of one that is longer than ``longest`` nothing but its length is."""
    held, skipped = b"", 0
    for chunk in chunks:
        lines = (held + chunk).split(b"\n")
        held = lines.pop()
        for line in lines:
            taken = skipped + len(line) + 1
            yield (b"" if skipped or len(line) > longest else line), taken
            skipped = 0
        if len(held) > longest:
            skipped, held = skipped + len(held), b""
