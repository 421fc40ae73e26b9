"""A report as CSV: one table in which each line says of what it is."""

from __future__ import annotations

from collections.abc import Iterator

from plumcrate.contract.delivery import Sent
from plumcrate.contract.reports import SavingsReport
from plumcrate.contract.savings import Slat
from plumcrate.csv_lines import line

COLUMNS = (
    "part",
    "name",
    "files",
    "bytes_before",
    "bytes_now",
    "bytes_lightest",
    "saved_percent",
    "requests",
    "seconds_before",
    "seconds_now",
    "worst_score",
)


def table(report: SavingsReport) -> Iterator[str]:
    """The lines, the first with the columns' names. Sizes are in bytes, times in seconds."""
    yield line(COLUMNS)
    yield _line("client", report.client)
    yield _line("library", report.name)
    yield _line("period", f"{report.begins} to {report.ends}")
    yield _of("treated", report.treated)
    yield _of("whole library", report.whole)
    yield _line("described pictures", f"{report.described} of {report.all_pictures}")
    for part, slats in (
        ("month", report.by_month),
        ("format", report.by_format),
        ("folder", report.by_folder),
    ):
        yield from (_of(part, slat) for slat in slats)
    yield _sent("sent to visitors", report.sent)
    yield from (_sent("sent in month", sent) for sent in report.sent_by_month)
    for part, pictures in (("best picture", report.best), ("worst picture", report.worst)):
        for one in pictures:
            yield _line(
                part,
                one.path,
                bytes_before=one.bytes_before,
                bytes_now=one.bytes_now,
                bytes_lightest=one.bytes_lightest,
                worst_score=one.worst,
                saved_percent=saved(one.bytes_before, one.bytes_lightest),
            )
    for page in report.pages:
        yield _line(
            f"page on {page.device}",
            page.address,
            bytes_before=page.picture_bytes_first,
            bytes_now=page.picture_bytes_latest,
            seconds_before=page.lcp_first,
            seconds_now=page.lcp_latest,
            saved_percent=saved(page.picture_bytes_first, page.picture_bytes_latest),
        )


def saved(before: int, now: int) -> float | None:
    """Percent; None where nothing was."""
    return round(100 * (before - now) / before, 1) if before else None


def _of(part: str, slat: Slat) -> str:
    return _line(
        part,
        slat.name,
        files=slat.files,
        bytes_before=slat.bytes_before,
        bytes_now=slat.bytes_now,
        bytes_lightest=slat.bytes_lightest,
        saved_percent=saved(slat.bytes_before, slat.bytes_lightest),
    )


def _sent(part: str, sent: Sent) -> str:
    return _line(
        part,
        sent.name,
        bytes_before=sent.bytes_before,
        bytes_now=sent.bytes,
        requests=sent.requests,
        saved_percent=saved(sent.bytes_before, sent.bytes),
    )


def _line(part: str, name: str, **values: float | None) -> str:
    named: dict[str, object] = {"part": part, "name": name, **values}
    return line(named.get(column) for column in COLUMNS)
