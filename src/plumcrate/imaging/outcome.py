"""What came of a treatment, of measuring, of looking: as data and in plain words. Loads no codec."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from typing import Literal, TypeVar

from .identification import Facts

AnyOutput = TypeVar("AnyOutput", bound="Output")
#: What an output is for: the file itself, a copy beside it, a file of another format in its place, or a
#: leaner copy for who asks for less data.
Role = Literal["file", "copy", "conversion", "save-data"]
Verdict = Literal[
    "not-smaller",
    "too-little-gain",
    "out-of-reach",
    "not-possible",
    "not-for-its-duplicate",
    "lossless-is-near",
    "not-for-the-web",
]

#: What became of an output, in plain words, for people.
CHOSEN = "smaller, and as good as promised"
VERDICTS: dict[Verdict, str] = {
    "not-smaller": "would not be smaller, so nothing was written",
    "too-little-gain": "would save too little to be worth a change",
    "out-of-reach": "cannot reach the promised quality in this format",
    "not-possible": "cannot be made from this picture at this level",
    "not-for-its-duplicate": "was of no use for the same picture elsewhere in the library",
    "lossless-is-near": "a lossless copy is nearly as light, and shows every pixel as it is",
    "not-for-the-web": "is no format for pages; the file beside it is",
}


@dataclass(frozen=True, slots=True)
class WorstPlace:
    """The worst place of a picture, and a coarse map of all of it.

    ``score`` is what the whole would score were it all like the worst cell; ``left`` and ``top`` are that
    cell's middle, 0 to 1 of width and height. ``lost`` (rows of bytes) holds for each part of the map 100
    less the score of the worst cell in it, at most 255; ``columns`` is the width of the map.
    """

    score: float
    left: float
    top: float
    columns: int
    lost: bytes

    @property
    def rows(self) -> int:
        return len(self.lost) // self.columns


@dataclass(frozen=True, slots=True)
class Tried:
    """One candidate: how it was made, its bytes, its score (100.0: identical; None: not measured)."""

    how: str
    size: int
    score: float | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Output:
    """One file that was considered; either :class:`Chosen` or :class:`Refused`.

    ``size`` is in bytes, 0 when nothing was encoded; ``score`` is SSIMULACRA2 against the source, 100.0 when
    the pixels are identical; ``worst_place`` is where it scores worst, upright, None where it was not
    measured. ``tried`` are the candidates that were weighed, this one among them. ``step`` is where our
    JPEG's knob reached the target, for what is aimed at next.
    """

    format: str
    role: Role = "file"
    size: int = 0
    score: float | None = None
    worst_place: WorstPlace | None = None
    how: str = ""
    encodes: int = 0
    tried: tuple[Tried, ...] = ()
    step: int | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Chosen(Output):
    """An output to be written. ``data`` was decoded, by a decoder that is not ours, and compared or
    scored."""

    data: bytes


@dataclass(frozen=True, slots=True, kw_only=True)
class Refused(Output):
    """An output that is not written, and why."""

    verdict: Verdict

    @property
    def reason(self) -> str:
        return VERDICTS[self.verdict]


@dataclass(frozen=True, slots=True)
class Former:
    """What an earlier treatment made of the file itself: its ``size`` in bytes now, and its output's
    ``step``."""

    size: int
    step: int | None = None


@dataclass(frozen=True, slots=True)
class Treatment:
    """The outcome for one file of ``size`` bytes: an output for the file itself, and for copies and
    conversions.

    Conversions are files of another format that could take the picture's place under another name; they are
    offered when the recipe asks, and whoever keeps the files decides.
    """

    facts: Facts
    size: int
    outputs: tuple[Output, ...]

    @property
    def main(self) -> Output:
        """The output for the file itself."""
        (main,) = self.of("file")
        return main

    def of(self, role: Role) -> tuple[Output, ...]:
        """The outputs of a role."""
        return tuple(output for output in self.outputs if output.role == role)

    @property
    def chosen(self) -> tuple[Chosen, ...]:
        """What is to be written."""
        return tuple(output for output in self.outputs if isinstance(output, Chosen))

    @property
    def size_after(self) -> int:
        """Bytes of the file itself afterwards."""
        return self.main.size if isinstance(self.main, Chosen) else self.size


@dataclass(frozen=True, slots=True)
class Measured:
    """Bytes of a file, of what would take its place, and of the lightest of that and its copies; and the
    seconds of processor time that treating it would take."""

    before: int
    after: int
    lightest: int
    seconds: float


@dataclass(frozen=True, slots=True)
class Part:
    """A part of a picture as a file of its own, and the box that it is of the stored whole, in pixels."""

    data: bytes
    left: int
    top: int
    width: int
    height: int


@dataclass(frozen=True, slots=True)
class Seen:
    """The score, 100 for no difference, of what is seen; the worst place in parts of width and height."""

    score: float
    worst: float
    left: float
    top: float


def exact(format: str, data: bytes, how: str) -> Chosen:
    """A candidate whose pixels are those of the source."""
    return Chosen(
        format=format,
        data=data,
        size=len(data),
        score=100.0,
        how=how,
        encodes=1,
        tried=(Tried(how, len(data), 100.0),),
    )


def not_taken(format: str, tried: list[Tried], size: int) -> Refused:
    """None of several candidates for a file of ``size`` bytes was taken."""
    last = tried[-1]
    return Refused(
        format=format,
        verdict="not-smaller" if last.size >= size else "out-of-reach",
        size=last.size,
        score=last.score,
        how=last.how,
        encodes=len(tried),
        tried=tuple(tried),
    )


def impossible(format: str) -> Refused:
    """Nothing could be made."""
    return Refused(format=format, verdict="not-possible")


def refused(output: Output, verdict: Verdict) -> Refused:
    """An output that is not written after all."""
    return Refused(
        format=output.format,
        role=output.role,
        size=output.size,
        score=output.score,
        worst_place=output.worst_place,
        how=output.how,
        encodes=output.encodes,
        tried=output.tried,
        step=output.step,
        verdict=verdict,
    )


def with_all(output: AnyOutput, weighed: Iterable[Output]) -> AnyOutput:
    """An output with the work of all that were weighed on its account."""
    weighed = tuple(weighed)
    return replace(
        output,
        encodes=sum(one.encodes for one in weighed),
        tried=tuple(tried for one in weighed for tried in one.tried),
        step=next((one.step for one in weighed if one.step is not None), None),
    )


def lightest(candidates: list[AnyOutput]) -> AnyOutput:
    """The smallest of several candidates, with the work of all of them on its account."""
    return with_all(min(candidates, key=lambda one: one.size), candidates)
