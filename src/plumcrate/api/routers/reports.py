"""Reports for the client: of any months, and those that are made when a month is over."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime
from enum import StrEnum
from typing import Annotated, Any

from fastapi import Path, Query, Request, Response

from plumcrate.api.conditions import BasedOn, tagged
from plumcrate.api.needs import Administering, Looking
from plumcrate.api.problems import ApiError
from plumcrate.api.service import service_of
from plumcrate.contract.jobs import Job, JobKind, ReportRequest
from plumcrate.contract.reports import KeptReport as KeptReportView
from plumcrate.contract.reports import ReportSettings, SavingsReport
from plumcrate.jobs import long_work as jobs
from plumcrate.jobs import reporting
from plumcrate.records.queries.jobs import job_view
from plumcrate.records.tables import KeptReport
from plumcrate.reports.figures import NoSuchMonths, report
from plumcrate.reports.table import table
from plumcrate.sandbox.children import SandboxError

from .deps import Session, Slug, TheDatabase, TheQueue, router_of, the_library

router = router_of("reports")

_MONTH = r"^(19|20|21)\d\d-(0[1-9]|1[0-2])$"
Begins = Annotated[
    str | None, Query(pattern=_MONTH, description="The first month, such as 2026-01; this month.")
]
Ends = Annotated[str | None, Query(pattern=_MONTH, description="The last month; the first one.")]
MonthName = Annotated[str, Path(pattern=_MONTH)]


class ReportFormat(StrEnum):
    PDF = "pdf"
    CSV = "csv"


_TYPES = {ReportFormat.PDF: "application/pdf", ReportFormat.CSV: "text/csv; charset=utf-8"}
_FILES: dict[int | str, dict[str, Any]] = {
    200: {"content": {"application/pdf": {}, "text/csv": {}}, "description": "PDF, or CSV as of RFC 4180"}
}


@router.get("/libraries/{slug}/report", summary="Report what was saved in some months")
def the_report(
    slug: Slug, actor: Looking, session: Session, begins: Begins = None, ends: Ends = None
) -> SavingsReport:
    """Of the files that were treated in these months and are as they were treated."""
    return _made(session, slug, begins, ends)


@router.get(
    "/libraries/{slug}/report/{form}",
    summary="The same report as a file",
    response_class=Response,
    responses=_FILES,
)
def report_file(
    slug: Slug,
    form: ReportFormat,
    actor: Looking,
    database: TheDatabase,
    request: Request,
    begins: Begins = None,
    ends: Ends = None,
) -> Response:
    with database.begin() as session:
        content = _made(session, slug, begins, ends)
    months = content.begins if content.begins == content.ends else f"{content.begins}-{content.ends}"
    makers: dict[ReportFormat, Callable[[], bytes]] = {
        ReportFormat.PDF: lambda: reporting.drawn(
            service_of(request).previews, service_of(request).sandbox, content
        ),
        ReportFormat.CSV: lambda: "".join(table(content)).encode(),
    }
    try:
        data = makers[form]()
    except SandboxError as error:
        raise ApiError("cannot-show", f"the report could not be drawn: {error}") from None
    return _file(form, data, f"{content.library}-{months}")


@router.get("/libraries/{slug}/report-settings", summary="Whose report it is")
def report_settings(slug: Slug, actor: Looking, session: Session, response: Response) -> ReportSettings:
    settings = ReportSettings.model_validate(the_library(session, slug).report)
    return tagged(response, settings, settings)


@router.put("/libraries/{slug}/report-settings", summary="Say whose report it is, and when")
def set_report_settings(
    slug: Slug, body: ReportSettings, actor: Administering, session: Session, based: BasedOn
) -> ReportSettings:
    library = the_library(session, slug)
    based.on(ReportSettings.model_validate(library.report))
    library.report = body.model_dump(mode="json")
    return based.tagged(body, body)


@router.get("/libraries/{slug}/reports", summary="Reports that are kept")
def kept(slug: Slug, actor: Looking, session: Session) -> list[KeptReportView]:
    """Of months that were over; the latest first."""
    rows = reporting.kept_reports(session, the_library(session, slug).id)
    return [KeptReportView(month=month, made_at=at) for month, at in rows]


@router.post("/libraries/{slug}/reports", status_code=202, summary="Make a month's report, and keep it")
def keep(slug: Slug, body: ReportRequest, actor: Administering, session: Session, queue: TheQueue) -> Job:
    """As it is made by itself when the month is over: kept, put into the folder, told to the webhooks."""
    row = jobs.start(session, queue, the_library(session, slug), JobKind.REPORT, body, actor.name)
    return job_view(session, row, slug)


@router.get(
    "/libraries/{slug}/reports/{month}/{form}",
    summary="A report that is kept",
    response_class=Response,
    responses=_FILES,
)
def kept_file(slug: Slug, month: MonthName, form: ReportFormat, actor: Looking, session: Session) -> Response:
    row = session.get(KeptReport, (the_library(session, slug).id, month))
    if row is None:
        raise ApiError("not-found", f"no report of {month} is kept")
    return _file(form, row.pdf if form is ReportFormat.PDF else row.csv, f"{slug}-{month}")


def _made(session: Session, slug: str, begins: str | None, ends: str | None) -> SavingsReport:
    now = datetime.now(UTC)
    first = begins or ends or f"{now:%Y-%m}"
    try:
        return report(session, the_library(session, slug), first, ends or first, now)
    except NoSuchMonths as error:
        raise ApiError("invalid-request", str(error)) from None


def _file(form: ReportFormat, data: bytes, name: str) -> Response:
    # A short name is plain ASCII, so it needs no quoting here.
    headers = {"Content-Disposition": f'attachment; filename="{name}.{form}"'}
    return Response(data, media_type=_TYPES[form], headers=headers)
