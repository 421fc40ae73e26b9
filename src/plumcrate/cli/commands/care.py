"""doctor, forecast, verify, automation, hook-secret."""

from __future__ import annotations

import argparse

from rich.console import RenderableType
from rich.text import Text

from plumcrate.cli.look import CLAY, LEAF, QUIET, duration
from plumcrate.contract.automation import Automation
from plumcrate.contract.care import Machine
from plumcrate.contract.jobs import CheckReport, CheckRequest, ForecastRequest, Job, JobState, Range
from plumcrate.contract.libraries import LibraryChange
from plumcrate.words import saved, size

from .common import CommandResult, Commands, changed, client, console, shown, table

_SYMBOLS = {"fine": ("✓", LEAF), "warning": ("!", "yellow"), "broken": ("✗", CLAY)}


def add_commands(commands: Commands) -> None:
    doctor = commands.add("doctor")
    doctor.set_defaults(command=_doctor)

    forecast = commands.add("forecast")
    forecast.add_argument("library")
    forecast.add_argument("--seconds", type=float, default=60.0, help="how long to sample (default 60)")
    forecast.set_defaults(command=_forecast)

    verify = commands.add("verify")
    verify.add_argument("library")
    verify.add_argument("--mend", action="store_true", help="mend what can be mended without a choice")
    verify.set_defaults(command=_verify)

    automation = commands.add("automation")
    automation.add_argument("library")
    automation.add_argument(
        "--set",
        dest="changes",
        action="append",
        metavar="NAME=VALUE",
        default=[],
        help="such as watch=true, new_files=at-once, hours=22:00-06:00",
    )
    automation.set_defaults(command=_automation)

    hook = commands.add("hook-secret")
    hook.add_argument("library")
    hook.set_defaults(command=_hook)


def _doctor(options: argparse.Namespace) -> CommandResult:
    with client() as service:
        machine = service.machine()
    return CommandResult(machine, machine_lines(machine), int(machine.verdict == "broken"))


def machine_lines(machine: Machine) -> list[RenderableType]:
    """What a check of the machine says, for people."""
    lines: list[RenderableType] = []
    for line in machine.lines:
        symbol, style = _SYMBOLS[line.verdict]
        lines.append(Text.assemble((f"{symbol} ", style), (line.what, "bold"), f"  {line.detail}"))
        if line.todo:
            lines.append(Text(f"    {line.todo}", style=style))
    said = {
        "fine": "Everything is fine.",
        "warning": "It works; see the lines marked !.",
        "broken": "Something is missing.",
    }
    return [*lines, said[machine.verdict]]


def _forecast(options: argparse.Namespace) -> CommandResult:
    with client() as service:
        started = service.jobs.forecast(options.library, ForecastRequest(seconds=options.seconds))
        with console.status(f"Treating a sample of {options.library} in memory …"):
            job = service.jobs.wait(started.id)
    return CommandResult(job, _forecast_lines(job), int(job.state is not JobState.FINISHED))


def _forecast_lines(job: Job) -> list[RenderableType]:
    outlook = job.forecast.outlook if job.forecast else None
    if job.state is not JobState.FINISHED or outlook is None:
        return [Text(f"The forecast has {job.state}" + (f": {job.reason}" if job.reason else "."), "yellow")]
    rows = [
        _range_row("the files themselves", outlook.bytes_before, outlook.bytes_after),
        _range_row("what a modern browser fetches", outlook.bytes_before, outlook.bytes_lightest),
    ]
    columns = ("", "expected", "saved", "nine times in ten between")
    lines: list[RenderableType] = [
        f"{outlook.files:,} files of {size(outlook.bytes_before)} would be treated. "
        f"Looked at {outlook.sampled_files:,} of them ({size(outlook.sampled_bytes)}) in "
        f"{outlook.seconds:.0f} s; nothing was written.",
        table(columns, rows, right=columns[1:3]),
    ]
    if outlook.wanted_seconds is not None:
        more = f"plumcrate forecast {job.library} --seconds {outlook.wanted_seconds:.0f}"
        lines.append(Text(f"Too little was looked at to say much: {more}", "yellow"))
    elif outlook.run_seconds is not None:
        lines.append(f"A run over all of them would take about {duration(outlook.run_seconds)} here.")
    if outlook.efforts:
        columns = ("effort", "a run would take", "files themselves", "a modern browser fetches")
        efforts = [
            (str(one.effort), duration(one.run_seconds), size(one.bytes_after), size(one.bytes_lightest))
            for one in outlook.efforts
        ]
        lines.append(table(columns, efforts, right=columns[1:]))
    return lines


def _range_row(name: str, before: int, interval: Range) -> tuple[str, ...]:
    return (
        name,
        size(interval.expected),
        saved(before, interval.expected),
        f"{size(interval.low)} and {size(interval.high)}",
    )


def _verify(options: argparse.Namespace) -> CommandResult:
    with client() as service:
        started = service.jobs.check(options.library, CheckRequest(mend=options.mend))
        with console.status(f"Reading {options.library} …"):
            job = service.jobs.wait(started.id)
    report = job.check or CheckReport()
    if job.state is not JobState.FINISHED:
        said = f"The check has {job.state}" + (f": {job.reason}" if job.reason else ".")
        return CommandResult(job, [Text(said, "yellow")], 1)
    lines = _check_lines(report, options.library, mend=job.mend)
    return CommandResult(job, lines, int(report.differences > report.mended))


def _check_lines(report: CheckReport, library: str, *, mend: bool) -> list[RenderableType]:
    told = (
        f"{report.differences:,} differences, {report.mended:,} mended."
        if report.differences
        else "all as recorded."
    )
    lines: list[RenderableType] = [
        f"Read {report.files:,} treated files, {report.copies:,} copies and {report.backups:,} backups: "
        + told
    ]
    for finding in report.findings:
        symbol, style = ("✓", LEAF) if finding.mended else ("!", "yellow")
        lines.append(Text.assemble((f"  {symbol} ", style), finding.path, (f"  {finding.detail}", QUIET)))
    if report.differences > report.mended and not mend:
        lines.append(f"Mend what can be mended: plumcrate verify {library} --mend")
    return lines


def _automation(options: argparse.Namespace) -> CommandResult:
    automation = changed(Automation, options.changes) if options.changes else None
    with client() as service:
        if automation is None:
            library = service.libraries.get(options.library)
        else:
            library = service.libraries.change(options.library, LibraryChange(automation=automation))
    rows = [(name, shown(value)) for name, value in library.automation.model_dump(mode="json").items()]
    warnings = [Text(f"! {warning}", style="yellow") for warning in library.warnings]
    return CommandResult(library.automation, [table(("setting", "value"), rows), *warnings])


def _hook(options: argparse.Namespace) -> CommandResult:
    with client() as service:
        hook = service.webhooks.make_incoming_secret(options.library)
    return CommandResult(
        hook,
        [
            f"Send webhooks to {hook.url}\nsigned with the secret {hook.secret}",
            Text("The secret is shown this once; a former one is worth nothing from now on.", QUIET),
        ],
    )
