"""Reports for the client."""

from __future__ import annotations

from pydantic import TypeAdapter

from plumcrate.contract.jobs import Job, ReportRequest
from plumcrate.contract.reports import KeptReport, ReportSettings, SavingsReport

from . import base
from .base import Call


def figures(library: str, begins: str | None = None, ends: str | None = None) -> Call[SavingsReport]:
    """What was saved in some months, such as 2026-01 to 2026-11; this month without any."""
    return base.get(f"{base.within(library)}/report", SavingsReport, begins=begins, ends=ends)


def file(library: str, form: str, begins: str | None = None, ends: str | None = None) -> Call[bytes]:
    """The same as ``pdf`` or ``csv``."""
    months = {name: value for name, value in (("begins", begins), ("ends", ends)) if value is not None}
    return Call("GET", f"{base.within(library)}/report/{base.part(form)}", None, months, seconds=120)


def settings(library: str) -> Call[ReportSettings]:
    return base.get(f"{base.within(library)}/report-settings", ReportSettings)


def save_settings(library: str, settings: ReportSettings) -> Call[ReportSettings]:
    path = f"{base.within(library)}/report-settings"
    return Call("PUT", path, TypeAdapter(ReportSettings), body=settings)


def kept(library: str) -> Call[list[KeptReport]]:
    """Of months that were over, the latest first."""
    return base.get(f"{base.within(library)}/reports", list[KeptReport])


def kept_file(library: str, month: str, form: str) -> Call[bytes]:
    """As ``pdf`` or ``csv``."""
    return Call("GET", f"{base.within(library)}/reports/{base.part(month)}/{base.part(form)}", None)


def keep(library: str, month: str) -> Call[Job]:
    """Makes a month's report as it is made by itself when the month is over."""
    return base.post(f"{base.within(library)}/reports", Job, ReportRequest(month=month))
