"""Path data (SVG 1.1, 8.3): read, and written in the fewest characters that draw the same line.

Where points may move, they are counted in units of the last decimal that is kept, so that what is relative
in the result sums up to where each point was rounded to: no error grows along a path. Where none may, each
number stays what it is, and relative what is relative: browsers sum up in single precision, so that the same
point reached otherwise may lie on the other side of a pixel's middle.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

from .values import NUMBER, joined, needs_gap, respelled, shown

_NEXT = re.compile(rf"[\s,]*(?:({NUMBER})|([a-zA-Z]))")
_FLAG = re.compile(r"[\s,]*([01])")
#: How many numbers each command takes.
_TAKES = {"M": 2, "L": 2, "H": 1, "V": 1, "C": 6, "S": 4, "Q": 4, "T": 2, "A": 7, "Z": 0}
#: Decimals that radii and angles of arcs have beyond those of points: ends turn around them.
_FINER = 1


class PathError(ValueError):
    """What is no path data to its end."""


@dataclass(frozen=True, slots=True)
class Segment:
    """A command with its numbers, and as the file writes them."""

    command: str
    texts: tuple[str, ...]

    @property
    def numbers(self) -> tuple[float, ...]:
        return tuple(map(float, self.texts))


def segments_of(data: str) -> list[Segment]:
    """Raises PathError for what does not follow the grammar: browsers draw such a path in part."""
    found: list[Segment] = []
    at, command = 0, ""
    end = len(data.rstrip())
    while at < end:
        match = _NEXT.match(data, at)
        if match is None:
            raise PathError(f"character {at} makes no sense")
        if match.group(2):
            command, at = match.group(2), match.end()
            if command.upper() not in _TAKES or (not found and command not in "Mm"):
                raise PathError(f"{command} at {at} makes no sense")
            if command in "Zz":
                found.append(Segment(command, ()))
                continue
        elif not command or command in "Zz":
            raise PathError(f"the number at {at} belongs to no command")
        texts, at = _texts(data, at, command)
        found.append(Segment(command, texts))
        # Further pairs behind a move are lines.
        command = {"M": "L", "m": "l"}.get(command, command)
    return found


def _texts(data: str, at: int, command: str) -> tuple[tuple[str, ...], int]:
    texts = []
    for place in range(_TAKES[command.upper()]):
        flag = command in "Aa" and place in (3, 4)
        match = (_FLAG if flag else _NEXT).match(data, at)
        if match is None or match.group(1) is None:
            raise PathError(f"{command} lacks a number at {at}")
        texts.append(match.group(1))
        at = match.end()
    return tuple(texts), at


class _Writer:
    """Writes commands one after the other, each absolute or relative, whichever is shorter."""

    def __init__(self) -> None:
        self._out: list[str] = []
        self._command, self._last = "", ""

    def add(self, *ways: tuple[str, list[str]]) -> None:
        """The shortest of several ways to write a segment."""
        self._put(*min((self._text(*way), way) for way in ways)[1])

    def _text(self, command: str, numbers: list[str]) -> tuple[int, str]:
        text = self._with_gap(command, numbers)
        return len(text), text

    def _with_gap(self, command: str, numbers: list[str]) -> str:
        tail = joined(numbers)
        if command == self._command and command not in "Zz":
            return (" " if needs_gap(self._last, numbers[0]) else "") + tail
        return command + tail

    def _put(self, command: str, numbers: list[str]) -> None:
        self._out.append(self._with_gap(command, numbers))
        self._command = {"M": "L", "m": "l"}.get(command, command)
        self._last = numbers[-1] if numbers else ""

    @property
    def text(self) -> str:
        return "".join(self._out)


def short_path(data: str, decimals: int | None) -> str:
    """Path data with so many decimals at most, None: with the same numbers; as it is where it does not follow
    the grammar or cannot be made shorter."""
    try:
        segments = segments_of(data)
        short = _respelled(segments) if decimals is None else _Shortener(decimals).written(segments)
    except (PathError, OverflowError):
        return data
    return short if len(short) < len(data) else data


def _respelled(segments: list[Segment]) -> str:
    """The same commands and numbers."""
    writer = _Writer()
    for segment in segments:
        command, texts = segment.command, list(map(respelled, segment.texts))
        if command == "l" and "0" in texts:
            command, texts = ("h", texts[:1]) if texts[1] == "0" else ("v", texts[1:])
        writer.add((command.replace("Z", "z"), texts))
    return writer.text


class _Shortener:
    """``x`` and ``y``: where the pen is as the file has it; ``at``: where it is in units, as written."""

    def __init__(self, decimals: int) -> None:
        self.decimals, self.scale = decimals, 10**decimals
        self.x = self.y = self.begin_x = self.begin_y = 0.0
        self.at = self.begin = (0, 0)
        self.bend: tuple[str, tuple[int, int]] | None = None  # the last curve's kind and control point
        self.writer = _Writer()

    def written(self, segments: list[Segment]) -> str:
        for segment in segments:
            kind = segment.command.upper()
            if kind == "Z":
                self.writer.add(("z", []))
                self.x, self.y, self.at = self.begin_x, self.begin_y, self.begin
                self.bend = None
                continue
            points = self._points(segment, kind)
            if kind == "A":
                self._arc(segment.numbers, points[-1])
            elif kind in "CSQT":
                self._curve(kind, points)
            else:
                self._line(kind, points[-1])
            self.at = points[-1]
        return self.writer.text

    def _points(self, segment: Segment, kind: str) -> list[tuple[int, int]]:
        """A segment's points in units; the pen moves to the last of them."""
        relative, numbers = segment.command.islower(), segment.numbers
        if kind == "A":
            numbers = numbers[-2:]
        if kind == "H":
            pairs = [(numbers[0], 0.0 if relative else self.y)]
        elif kind == "V":
            pairs = [(0.0 if relative else self.x, numbers[0])]
        else:
            pairs = list(zip(numbers[::2], numbers[1::2], strict=True))
        if relative:
            pairs = [(self.x + x, self.y + y) for x, y in pairs]
        self.x, self.y = pairs[-1]
        if kind == "M":
            self.begin_x, self.begin_y = pairs[-1]
        return [(round(x * self.scale), round(y * self.scale)) for x, y in pairs]

    def _line(self, kind: str, to: tuple[int, int]) -> None:
        self.bend = None
        across, down = to[0] - self.at[0], to[1] - self.at[1]
        if kind == "M":
            self.begin = to
            self.writer.add(("M", self._said(to)), ("m", self._said((across, down))))
            return
        ways = [("L", self._said(to)), ("l", self._said((across, down)))]
        if down == 0:
            ways += [("H", self._said(to[:1])), ("h", self._said((across,)))]
        elif across == 0:
            ways += [("V", self._said(to[1:])), ("v", self._said((down,)))]
        self.writer.add(*ways)

    def _curve(self, kind: str, points: list[tuple[int, int]]) -> None:
        family = "C" if kind in "CS" else "Q"
        mirrored = self._mirrored(family)
        if kind in "ST":
            points = [mirrored, *points]
        flat = [value for point in points for value in point]
        away = [value - self.at[place % 2] for place, value in enumerate(flat)]
        ways = [(family, self._said(flat)), (family.lower(), self._said(away))]
        if points[0] == mirrored:
            smooth = "S" if family == "C" else "T"
            ways += [(smooth, self._said(flat[2:])), (smooth.lower(), self._said(away[2:]))]
        self.bend = family, points[-2]
        self.writer.add(*ways)

    def _mirrored(self, family: str) -> tuple[int, int]:
        """The control point that a smooth curve would have here."""
        if self.bend is None or self.bend[0] != family:
            return self.at
        x, y = self.bend[1]
        return 2 * self.at[0] - x, 2 * self.at[1] - y

    def _arc(self, numbers: tuple[float, ...], to: tuple[int, int]) -> None:
        self.bend = None
        finer = self.decimals + _FINER
        radii = [shown(round(radius * 10**finer), finer) for radius in numbers[:2]]
        turn = [shown(round(numbers[2] * 10**finer), finer)]
        flags = [str(int(flag)) for flag in numbers[3:5]]
        away = (to[0] - self.at[0], to[1] - self.at[1])
        ways = [("A", self._said(to)), ("a", self._said(away))]
        self.writer.add(*((command, [*radii, *turn, *flags, *end]) for command, end in ways))

    def _said(self, units: tuple[int, ...] | list[int]) -> list[str]:
        return [shown(value, self.decimals) for value in units]
