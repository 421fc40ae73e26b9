"""The ``srcset`` attribute (HTML standard, section 4.8.4.2.2)."""

from __future__ import annotations

import re
from dataclasses import dataclass

_SPACE = "\t\n\f\r "
_WIDTH = re.compile(r"0*([0-9]{1,9})w", re.ASCII)


@dataclass(frozen=True, slots=True)
class Candidate:
    """An address with its descriptor as written: ``640w``, ``2x`` or nothing."""

    address: str
    descriptor: str

    @property
    def width(self) -> int | None:
        """Pixels, of a width descriptor; None for anything else, and for more than any picture has."""
        match = _WIDTH.fullmatch(self.descriptor)
        return int(match[1]) if match else None

    def __str__(self) -> str:
        return f"{self.address} {self.descriptor}".strip()


def candidates_of(value: str) -> list[Candidate]:
    """The candidates of a value with references decoded; what makes no sense is kept as it is written."""
    found: list[Candidate] = []
    at, end = 0, len(value)
    while True:
        while at < end and value[at] in _SPACE + ",":
            at += 1
        if at >= end:
            return found
        start = at
        while at < end and value[at] not in _SPACE:
            at += 1
        address = value[start:at]
        if address.endswith(","):
            found.append(Candidate(address.rstrip(","), ""))
            continue
        start, depth = at, 0
        while at < end and (depth or value[at] != ","):
            depth += {"(": 1, ")": -1}.get(value[at], 0) if depth or value[at] == "(" else 0
            at += 1
        found.append(Candidate(address, value[start:at].strip(_SPACE)))


def written(candidates: list[Candidate]) -> str:
    return ", ".join(map(str, candidates))
