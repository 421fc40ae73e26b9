"""Long work on a library: surveys, checks, forecasts, proofs, prunings, weighings, monthly reports, looks
for resemblance and readings of metadata are jobs, each with its report."""

from __future__ import annotations

from datetime import datetime
from enum import StrEnum
from typing import Self

from pydantic import Field, model_validator

from .common import Answer, Flag, Message, Number, Whole
from .recipes import Effort
from .reports import Month
from .weighing import WeighReport


class JobKind(StrEnum):
    """What a job does. Of each kind but weighings one is open at a time in a library."""

    SURVEY = "survey"
    CHECK = "check"
    FORECAST = "forecast"
    PROOF = "proof"
    PRUNING = "pruning"
    WEIGHING = "weighing"
    REPORT = "report"
    RESEMBLANCE = "resemblance"
    WORDS = "words"
    NEAR_DUPLICATES = "near-duplicates"


def report_of(kind: JobKind) -> str:
    """The name of the field of :class:`Job` that holds its report."""
    return kind.replace("-", "_")


class JobState(StrEnum):
    """Where a job stands; the last three are ends."""

    WAITING = "waiting"
    RUNNING = "running"
    FINISHED = "finished"
    FAILED = "failed"
    STOPPED = "stopped"


JOB_ENDS = (JobState.FINISHED, JobState.FAILED, JobState.STOPPED)


class SurveyReport(Answer):
    """One look through a library's folder. Counts are of files unless they say pictures."""

    files_seen: int = Field(0, description="While it looks, copies of ours count too.")
    copies: int = Field(0, description="Copies of ours that stand beside them.")
    files_new: int = 0
    files_changed: int = 0
    files_gone: int = 0
    files_unreadable: int = 0
    pictures: int = 0
    renditions: int = Field(0, description="Files that were found to be renditions of others.")
    renditions_told: int = Field(
        0, description="Those of them that the site itself named, rather than a pattern."
    )
    notes: list[str] = Field(default_factory=list, description="Left out, and why.")


class CheckRequest(Message):
    mend: Flag = Field(False, description="Also mend what can be mended without a choice.")


class Finding(Answer):
    """One difference between disk and records."""

    what: str
    path: str
    detail: str
    mended: Flag = False


class CheckReport(Answer):
    """A comparison of every file, copy and backup with the records, byte for byte."""

    files: int = Field(0, description="Treated files that were read and hashed.")
    copies: int = 0
    backups: int = 0
    differences: int = 0
    mended: int = 0
    findings: list[Finding] = Field(default_factory=list, description="The first 500.")


class PruneRequest(Message):
    """Which backups to delete. ``confirm`` must be the library's short name."""

    older_than_days: Whole | None = Field(None, ge=0, le=36_500, description="Null: of any age.")
    orphans_too: Flag = Field(
        False, description="Also those whose file was deleted, moved away or overwritten by somebody."
    )
    needed_too: Flag = Field(
        False, description="Also the only original of a treated file, which can then never be restored."
    )
    confirm: str


class PruneReport(Answer):
    """Backups that were deleted so far, of those that were asked for."""

    backups: int = 0
    bytes: int = 0
    wanted: int = Field(0, description="How many are to go.")
    needed: int = Field(0, description="How many of them were the only original of a treated file.")
    left: int = Field(0, description="Backups that stay: needed by a treated file, or orphaned.")


class ProofRequest(Message):
    """Which hand-back is to be proved."""

    run_id: int


class ProofReport(Answer):
    """At the end of a hand-back: every original read again and compared, byte for byte."""

    originals_identical: int = 0
    originals_differing: int = 0
    still_treated: int = 0
    copies_left: int = 0
    changes_open: int = 0
    copies_used_elsewhere: int = 0
    verdict: str = ""


class ForecastRequest(Message):
    seconds: Number = Field(60.0, gt=0, le=3600, description="How long to sample.")


class Range(Answer):
    """An expectation and the interval that holds it nine times in ten."""

    low: int
    expected: int
    high: int


class EffortOutlook(Answer):
    """What one effort would take and leave, over all files the recipe would treat."""

    effort: Effort
    run_seconds: float
    bytes_after: int
    bytes_lightest: int


class Outlook(Answer):
    """What was found from the sample. All sizes in bytes, over all files the recipe would treat."""

    files: int
    bytes_before: int
    sampled_files: int
    sampled_bytes: int
    bytes_after: Range
    bytes_lightest: Range
    seconds: float
    wanted_seconds: float | None = Field(
        None, description="Too little was looked at: sample for so many seconds. Null when it was enough."
    )
    run_seconds: float | None = Field(
        None, description="How long a run over all these files would take here, from what the sample took."
    )
    efforts: list[EffortOutlook] = Field(
        default_factory=list,
        description="The efforts side by side, from files treated with each; empty when time was too short.",
    )
    actual_files: int = Field(0, description="Files treated with this recipe since.")
    actual_before: int = 0
    actual_after: int = 0
    actual_lightest: int = 0


class ForecastReport(Answer):
    """What treating a library with a version of its recipe is expected to save. Nothing is written for it."""

    recipe_version: int | None = None
    outlook: Outlook | None = None


class ReportRequest(Message):
    """Which month's report is to be made, and kept."""

    month: Month


class ReportMade(Answer):
    """A month's report that was made. ``folder``: where it was put too."""

    month: str = ""
    bytes: int = 0
    folder: str | None = None


class ResemblanceReport(Answer):
    """Which files show the same as a larger one.

    ``files`` count as originals; ``found`` of them seem to be renditions; ``plain`` show too little to be
    known by."""

    files: int = 0
    looked_at: int = 0
    found: int = 0
    plain: int = 0
    unreadable: int = 0


class WordsReport(Answer):
    """What the pictures' own metadata says was read, for suggestions. Counts are of pictures; ``looked_at``
    of those that were not read before, or changed since."""

    pictures: int = 0
    looked_at: int = 0
    with_words: int = 0
    unreadable: int = 0


class NearDuplicatesReport(Answer):
    """Which pictures show the same. Counts are of pictures; ``looked_at`` and ``unreadable`` of those that
    were not looked at before, or changed since."""

    pictures: int = 0
    looked_at: int = 0
    unreadable: int = 0
    compared: int = Field(0, description="Of those looked at, how many were compared with all others.")
    groups: int = Field(0, description="Groups of pictures that show the same.")
    in_groups: int = 0


class Job(Answer):
    """One piece of long work, and how far it is. The report of its kind is there from the beginning."""

    id: int
    library: str
    kind: JobKind
    state: JobState
    reason: str | None = None
    by: str = Field("", description="Who asked for it; empty when it began by itself.")
    mend: Flag = Field(False, description="Of a check: whether it mends.")
    run_id: int | None = Field(None, description="Of a proof: the hand-back that it proves.")
    survey: SurveyReport | None = None
    check: CheckReport | None = None
    forecast: ForecastReport | None = None
    proof: ProofReport | None = None
    pruning: PruneReport | None = None
    weighing: WeighReport | None = None
    report: ReportMade | None = None
    resemblance: ResemblanceReport | None = None
    words: WordsReport | None = None
    near_duplicates: NearDuplicatesReport | None = None
    created_at: datetime
    started_at: datetime | None = None
    finished_at: datetime | None = None

    @model_validator(mode="after")
    def _has_its_report(self) -> Self:
        if getattr(self, report_of(self.kind)) is None:
            raise ValueError(f"a {self.kind} without its report")
        return self
