"""Which of a file's forms a request gets, by what it says it accepts (RFC 9110, section 12.5.1).

A copy is served only to who names its very type: browsers of all ages send ``*/*``, also those that cannot
show it. What suits nobody is answered with the file itself, never with 406: a picture that a browser did not
list is better than none.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Protocol, TypeVar

#: Longer headers, and more types in one, are taken for none.
_MOST_SIGNS, _MOST_RANGES = 4_000, 64
_TOKEN = r"[!#$%&'*+.^_`|~0-9A-Za-z-]+"
_RANGE = re.compile(rf"\s*({_TOKEN})/({_TOKEN})\s*((?:;[^;]*)*)\Z")
#: A quality has at most three decimals (section 12.4.2).
_QUALITY = re.compile(r"(?:0(?:\.\d{0,3})?|1(?:\.0{0,3})?)\Z")
#: What a file itself is worth that was not listed at all: less than anything that was.
_UNLISTED = 0.0


class Representation(Protocol):
    """A form of a file that can be served. ``own``: it is the file itself."""

    @property
    def media_type(self) -> str: ...
    @property
    def size(self) -> int: ...
    @property
    def own(self) -> bool: ...


AnyRepresentation = TypeVar("AnyRepresentation", bound=Representation)


@dataclass(frozen=True, slots=True)
class Accept:
    """Qualities by type, ``image/*`` and ``*/*`` among them, 0 to 1."""

    qualities: dict[str, float]

    def named(self, media_type: str) -> float | None:
        """The quality of a type that is named itself; None when it is not."""
        return self.qualities.get(media_type)

    def matched(self, media_type: str) -> float | None:
        """The quality of a type by the most specific range that fits it; None when none does."""
        kind = media_type.partition("/")[0]
        for wanted in (media_type, f"{kind}/*", "*/*"):
            if wanted in self.qualities:
                return self.qualities[wanted]
        return None


@lru_cache(maxsize=1024)
def accept_of(header: str | None) -> Accept:
    """What an ``Accept`` header says; ranges that make no sense are passed over."""
    if header is None or len(header) > _MOST_SIGNS:
        return Accept({"*/*": 1.0})
    ranges = header.split(",")
    if len(ranges) > _MOST_RANGES:
        return Accept({"*/*": 1.0})
    qualities: dict[str, float] = {}
    for text in ranges:
        match = _RANGE.match(text)
        if match is None:
            continue
        kind, subtype, parameters = match.groups()
        quality = _quality(parameters)
        if quality is None or (kind == "*" and subtype != "*"):
            continue
        name = f"{kind}/{subtype}".lower()
        qualities[name] = max(quality, qualities.get(name, 0.0))
    return Accept(qualities or {"*/*": 1.0})


def _quality(parameters: str) -> float | None:
    """The weight among a range's parameters, 1 where there is none; None when it makes no sense."""
    for parameter in parameters.split(";"):
        name, equals, value = parameter.partition("=")
        if name.strip().lower() == "q" and equals:
            value = value.strip()
            return float(value) if _QUALITY.match(value) else None
    return 1.0


def choose(forms: Sequence[AnyRepresentation], header: str | None) -> AnyRepresentation:
    """The form that a request gets: of the highest quality, and of those the lightest.

    ``forms``: the file itself and its copies. A copy heavier than the file is never chosen.
    """
    accept = accept_of(header)
    (own,) = (form for form in forms if form.own)
    best, best_quality = own, accept.matched(own.media_type) or _UNLISTED
    for form in forms:
        quality = accept.named(form.media_type)
        if form.own or not quality or form.size >= own.size:
            continue
        if (quality, -form.size) > (best_quality, -best.size):
            best, best_quality = form, quality
    return best
