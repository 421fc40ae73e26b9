"""What came of a treatment, as data and in plain words."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from .identification import Facts

Verdict = Literal["chosen", "not-smaller", "too-little-gain", "out-of-reach", "not-possible"]

#: The verdicts in plain words, for people.
VERDICTS: dict[Verdict, str] = {
    "chosen": "smaller, and as good as promised",
    "not-smaller": "would not be smaller, so nothing was written",
    "too-little-gain": "would save too little to be worth a change",
    "out-of-reach": "cannot reach the promised quality in this format",
    "not-possible": "cannot be made from this picture at this level",
}


@dataclass(frozen=True, slots=True)
class Tried:
    """One candidate: how it was made, its bytes, its score (100.0: identical; None: not measured)."""

    how: str
    size: int
    score: float | None = None


@dataclass(frozen=True, slots=True)
class Output:
    """One file that was considered.

    ``data`` is None unless the verdict is ``chosen``. ``size`` is in bytes, 0 when nothing was
    encoded; ``score`` is SSIMULACRA2 against the source, 100.0 when the pixels are identical.
    ``tried`` are the candidates that were weighed, the chosen one among them.
    """

    format: str
    verdict: Verdict
    data: bytes | None = None
    size: int = 0
    score: float | None = None
    how: str = ""
    encodes: int = 0
    tried: tuple[Tried, ...] = ()

    @property
    def reason(self) -> str:
        return VERDICTS[self.verdict]


@dataclass(frozen=True, slots=True)
class Treatment:
    """The outcome for one file: what replaces it, if anything, its copies, other formats for it.

    ``conversions`` are files of another format that could take the picture's place under another name;
    they are offered when the recipe asks, and whoever keeps the files decides.
    """

    facts: Facts
    size: int
    main: Output
    copies: tuple[Output, ...]
    conversions: tuple[Output, ...] = ()

    @property
    def size_after(self) -> int:
        """Bytes of the file itself afterwards."""
        return self.main.size if self.main.verdict == "chosen" else self.size


def chosen(format: str, data: bytes, score: float | None, how: str) -> Output:
    """A candidate as an output, to be weighed against others."""
    return Output(format, "chosen", data, len(data), score, how, 1, (Tried(how, len(data), score),))


def lightest(candidates: list[Output]) -> Output:
    """The smallest of several candidates, with the work of all of them on its account."""
    best = min(candidates, key=lambda one: one.size)
    return Output(
        best.format, best.verdict, best.data, best.size, best.score, best.how,
        sum(one.encodes for one in candidates), tuple(tried for one in candidates for tried in one.tried),
    )  # fmt: skip
