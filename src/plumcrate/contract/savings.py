"""What was saved: totals and the slats they are made of."""

from __future__ import annotations

from pydantic import Field

from .common import Answer, Level
from .delivery import Sent


class Slat(Answer):
    """One bar: what a group of files weighed, weighs, and would weigh on a modern browser."""

    name: str
    files: int
    bytes_before: int
    bytes_now: int
    bytes_lightest: int


class ScoreBin(Answer):
    """Files whose score, rounded down, is this one."""

    score: int
    files: int


class LevelScores(Answer):
    """How the scores of one level's files are spread; ``aim``: the score that the level aims at."""

    level: Level
    aim: float | None
    bins: list[ScoreBin]


class Savings(Answer):
    """The savings of a library. All counts are of files, all sizes in bytes.

    The totals are over every file; the slats over the files of their group.
    """

    library: str
    pictures: int
    total: Slat
    treated: Slat = Field(description="Only files that a run has dealt with.")
    copies: int
    bytes_copies: int
    bytes_backups: int
    sent: Sent = Field(default_factory=Sent, description="What visitors were sent in the last 30 days.")
    by_format: list[Slat]
    by_role: list[Slat]
    by_folder: list[Slat]
    by_month: list[Slat]
    scores: list[LevelScores] = Field(default_factory=list, description="Of files changed with loss.")
