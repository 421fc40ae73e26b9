"""Patterns of paths that others wrote: ``**`` for anything, ``*`` for anything but a slash, ``?`` for one
character.

A pattern is matched by keeping, for each character of a path, the set of places in the pattern that may be
reached (K. Thompson, Regular expression search algorithm, 1968), as bits of one integer. Time is in
proportion to the path's length, whatever the pattern."""

from __future__ import annotations

import re
from collections import defaultdict
from functools import lru_cache


class Glob:
    """One pattern. ``steps`` counts the characters that were looked at, for tests."""

    def __init__(self, pattern: str) -> None:
        # Of stars in a row those that match more hold those that match less: no two are neighbours.
        parts = re.findall(r"\*+|\?|[^*?]", re.sub(r"\*{2,}", "**", pattern))
        literal: defaultdict[str, int] = defaultdict(int)
        self._one = self._within = self._across = 0
        for place, part in enumerate(parts):
            bit = 1 << place
            if part == "**":
                self._across |= bit
            elif part == "*":
                self._within |= bit
            elif part == "?":
                self._one |= bit
            else:
                literal[part] |= bit
        self._literal = dict(literal)
        self._stars = self._across | self._within
        self._end = 1 << len(parts)
        self.steps = 0

    def matches(self, path: str) -> bool:
        """Whether the whole path fits."""
        reached = 1 | (1 & self._stars) << 1
        for character in path:
            self.steps += 1
            taken = reached & self._literal.get(character, 0)
            stays = reached & self._across
            if character != "/":
                taken |= reached & self._one
                stays |= reached & self._within
            reached = taken << 1 | stays
            reached |= (reached & self._stars) << 1
            if not reached:
                return False
        return bool(reached & self._end)


@lru_cache(maxsize=1_024)
def glob(pattern: str) -> Glob:
    """A pattern, remembered."""
    return Glob(pattern)
