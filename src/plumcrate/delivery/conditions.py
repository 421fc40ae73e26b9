"""Conditional and range requests of one chosen form (RFC 9110, sections 13 and 14)."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from email.utils import format_datetime, parsedate_to_datetime

_TAGS = re.compile(r'\s*(?:(W/)?("[\x21\x23-\x7e\x80-\xff]*"))\s*(?:,|\Z)')
_RANGE = re.compile(r"(\d*)-(\d*)\Z")
#: Longer headers are not looked at; numbers of more digits are no places in a file.
_MOST_SIGNS, _MOST_DIGITS = 8_000, 18


@dataclass(frozen=True, slots=True)
class Validators:
    """What tells this form from others. ``tag`` is a strong entity tag, with its quotes; ``modified`` in
    seconds since 1970, ``size`` in bytes."""

    tag: str
    modified: int
    size: int

    @property
    def last_modified(self) -> str:
        """As a header says it (section 5.6.7)."""
        return format_datetime(datetime.fromtimestamp(self.modified, UTC), usegmt=True)


@dataclass(frozen=True, slots=True)
class Verdict:
    """How a request is answered: 200, 206 with bytes ``first`` to ``last``, 304, 412 or 416."""

    status: int
    first: int = 0
    last: int = -1


def judge(headers: Mapping[str, str], now: Validators) -> Verdict:
    """What a GET or HEAD with such headers (names in lower case) gets, in the order of section 13.2.2."""
    if "if-match" in headers:
        if not lists(headers["if-match"], now.tag):
            return Verdict(412)
    elif _changed_since(headers.get("if-unmodified-since"), now):
        return Verdict(412)
    if "if-none-match" in headers:
        if lists(headers["if-none-match"], now.tag, weak=True):
            return Verdict(304)
    elif _changed_since(headers.get("if-modified-since"), now) is False:
        return Verdict(304)
    if "range" in headers and _range_counts(headers.get("if-range"), now):
        return _ranged(headers["range"], now.size)
    return Verdict(200, 0, now.size - 1)


def lists(header: str, tag: str, *, weak: bool = False) -> bool:
    """Whether a list of entity tags, or ``*``, holds ours; with ``weak`` also as a weak one (section
    8.8.3.2). What is no such list holds nothing."""
    if header.strip() == "*":
        return True
    if len(header) > _MOST_SIGNS:
        return False
    at = 0
    while at < len(header):
        match = _TAGS.match(header, at)
        if match is None:
            return False
        if match[2] == tag and (weak or not match[1]):
            return True
        at = match.end()
    return False


def _moment(header: str | None) -> int | None:
    """The seconds since 1970 of a date; None when it is none (section 5.6.7)."""
    if header is None or len(header) > 100:
        return None
    try:
        moment = parsedate_to_datetime(header)
        return int((moment if moment.tzinfo else moment.replace(tzinfo=UTC)).timestamp())
    except (ValueError, TypeError, OverflowError, IndexError):
        return None


def _changed_since(header: str | None, now: Validators) -> bool | None:
    """Whether the form is newer than a date; None when no date is given that can be read."""
    moment = _moment(header)
    return None if moment is None else now.modified > moment


def _range_counts(header: str | None, now: Validators) -> bool:
    """Whether a range is of the form as the client knows it (section 13.1.5): by a strong tag or its date."""
    if header is None:
        return True
    header = header.strip()
    if header.startswith('"'):
        return header == now.tag
    return not header.startswith("W/") and _moment(header) == now.modified


def _ranged(header: str, size: int) -> Verdict:
    """One range of bytes; several, other units and nonsense are passed over, as section 14.2 allows."""
    whole = Verdict(200, 0, size - 1)
    unit, equals, wanted = header.partition("=")
    if unit.strip().lower() != "bytes" or not equals or len(wanted) > _MOST_SIGNS:
        return whole
    match = _RANGE.match(wanted.strip())
    if match is None or not any(match.groups()) or max(map(len, match.groups())) > _MOST_DIGITS:
        return whole
    if not match[1]:  # the last so many bytes
        count = min(int(match[2]), size)
        return Verdict(206, size - count, size - 1) if count else Verdict(416)
    first = int(match[1])
    last = min(int(match[2]), size - 1) if match[2] else size - 1
    if match[2] and int(match[2]) < first:
        return whole
    return Verdict(206, first, last) if first < size else Verdict(416)
