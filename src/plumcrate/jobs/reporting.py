"""A month's report: started when the month is over, made, kept, put into a folder, told to the webhooks."""

from __future__ import annotations

import os
import secrets
from datetime import UTC, datetime, timedelta
from pathlib import Path

import structlog
from sqlalchemy import func, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from plumcrate.contract.automation import Automation
from plumcrate.contract.jobs import JobKind, ReportMade, ReportRequest
from plumcrate.contract.reports import ReportSettings, SavingsReport
from plumcrate.contract.webhooks import EventType
from plumcrate.previews.previews import USUAL_WIDTH, Previews
from plumcrate.queue.tasks import Queue
from plumcrate.records.database import Database
from plumcrate.records.tables import KeptReport, Library
from plumcrate.reports.figures import report
from plumcrate.reports.table import table
from plumcrate.runs.allowance import begin_of, month_of, next_month
from plumcrate.sandbox.children import Sandbox
from plumcrate.storage.errors import StorageError
from plumcrate.webhooks.outgoing import notify_webhooks

from .long_work import Follow, start_unless_open

log = structlog.get_logger()


def start_report(
    session: Session, queue: Queue, library: Library, automation: Automation, now: datetime
) -> None:
    """Starts the report of the month that ended, one month after the other where several did."""
    if not ReportSettings.model_validate(library.report).monthly:
        library.next_report_at = None
        return
    coming = begin_of(next_month(month_of(automation, now)), automation)
    if library.next_report_at is None or library.next_report_at > coming:
        library.next_report_at = coming
        return
    if now < library.next_report_at:
        return
    over = month_of(automation, library.next_report_at - timedelta(hours=1))
    if start_unless_open(session, queue, library, JobKind.REPORT, ReportRequest(month=f"{over:%Y-%m}")):
        library.next_report_at = begin_of(next_month(next_month(over)), automation)
        log.info("a month's report is made", library=library.slug, month=f"{over:%Y-%m}")


def drawn(previews: Previews, sandbox: Sandbox, content: SavingsReport) -> bytes:
    """A report as PDF, with its pictures as they are now. Raises SandboxError."""
    wanted = dict.fromkeys(one.file_id for one in (*content.best, *content.worst))
    small = {file_id: previews.at_once(file_id, USUAL_WIDTH) for file_id in wanted}
    pictures = {file_id: data for file_id, data in small.items() if data is not None}
    return sandbox.sheet(content.model_dump_json(), pictures)


def make_report(
    database: Database,
    previews: Previews,
    sandbox: Sandbox,
    folder: Path | None,
    library: Library,
    follow: Follow,
) -> ReportMade:
    """Makes and keeps the report of a month; where ``folder`` is set, puts it there too. Raises
    StorageError and SandboxError."""
    month = ReportRequest.model_validate(follow.request).month
    with database.begin() as session:
        current = session.get_one(Library, library.id)
        content = report(session, current, month, month, datetime.now(UTC))
    pdf, csv = drawn(previews, sandbox, content), "".join(table(content)).encode()
    with database.begin() as session:
        _keep(session, library.id, month, pdf, csv)
    place = _put(folder, library.slug, month, pdf, csv) if folder is not None else None
    with database.begin() as session:
        notify_webhooks(
            session,
            session.get_one(Library, library.id),
            EventType.REPORT_READY,
            _told(content),
            name=f"report_{follow.number}",
        )
    return ReportMade(month=month, bytes=len(pdf), folder=str(place) if place else None)


def _keep(session: Session, library_id: int, month: str, pdf: bytes, csv: bytes) -> None:
    values = {"library_id": library_id, "month": month, "pdf": pdf, "csv": csv, "made_at": func.now()}
    kept = insert(KeptReport).values(values)
    session.execute(kept.on_conflict_do_update(index_elements=["library_id", "month"], set_=values))


def _put(folder: Path, slug: str, month: str, pdf: bytes, csv: bytes) -> Path:
    """Whole or not at all. Raises StorageError."""
    place = folder / slug
    try:
        place.mkdir(parents=True, exist_ok=True)
        for ending, data in (("pdf", pdf), ("csv", csv)):
            staged = place / f".{month}-{secrets.token_hex(6)}"
            try:
                with staged.open("wb") as file:
                    file.write(data)
                    file.flush()
                    os.fsync(file.fileno())
                staged.replace(place / f"{month}.{ending}")
            finally:
                staged.unlink(missing_ok=True)
    except OSError as error:
        raise StorageError(
            "storage-error",
            f"the report of {month} is kept, but could not be put into {place} ({error.strerror}): make room "
            "or give write permission, and make it again",
        ) from None
    return place


def _told(content: SavingsReport) -> dict[str, object]:
    """What webhooks hear: the figures; the report itself is fetched with a key."""
    treated = content.treated
    return {
        "month": content.begins,
        "client": content.client,
        "files": treated.files,
        "pictures": content.pictures,
        "bytes_before": treated.bytes_before,
        "bytes_now": treated.bytes_now,
        "bytes_lightest": treated.bytes_lightest,
        "bytes_sent": content.sent.bytes,
        "bytes_sent_before": content.sent.bytes_before,
        "pdf": f"/api/v1/libraries/{content.library}/reports/{content.begins}/pdf",
        "csv": f"/api/v1/libraries/{content.library}/reports/{content.begins}/csv",
    }


def kept_reports(session: Session, library_id: int) -> list[tuple[str, datetime]]:
    """Months and when their report was made, the latest first."""
    query = select(KeptReport.month, KeptReport.made_at).where(KeptReport.library_id == library_id)
    return [(month, at) for month, at in session.execute(query.order_by(KeptReport.month.desc()))]
