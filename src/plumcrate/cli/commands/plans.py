"""allowance, report, webhooks: what a library may use, what it saved for its client, whom it tells."""

from __future__ import annotations

import argparse
from pathlib import Path

from pydantic import ValidationError
from rich.console import RenderableType
from rich.text import Text

from plumcrate.cli.look import CLAY, LEAF, QUIET, plain, slat
from plumcrate.contract.allowance import AllowanceSettings, AllowanceUnit
from plumcrate.contract.reports import ReportSettings, SavingsReport
from plumcrate.contract.savings import Slat
from plumcrate.contract.webhooks import USUAL_EVENTS, EventType, Webhook, WebhookSettings
from plumcrate.words import saved, size

from .common import CommandResult, Commands, WrongCommand, change_settings, client, shown, table


def add_commands(commands: Commands) -> None:
    allowance = commands.add("allowance")
    allowance.add_argument("library")
    amount = allowance.add_mutually_exclusive_group()
    amount.add_argument("--megapixels", type=int, metavar="N", help="so many megapixels a month")
    amount.add_argument("--files", type=int, metavar="N", help="so many files a month")
    amount.add_argument("--no-limit", action="store_true", help="as much as there is")
    allowance.set_defaults(command=_allowance)

    report = commands.add("report")
    report.add_argument("library")
    report.add_argument("--from", dest="begins", metavar="MONTH", help="such as 2026-01; this month without")
    report.add_argument("--to", dest="ends", metavar="MONTH", help="the last month; the first without")
    report.add_argument("--pdf", type=Path, metavar="FILE", help="write it as PDF")
    report.add_argument("--csv", type=Path, metavar="FILE", help="write it as CSV")
    report.add_argument("--keep", metavar="MONTH", help="make a month's report and keep it")
    report.add_argument(
        "--set",
        dest="changes",
        action="append",
        metavar="NAME=VALUE",
        default=[],
        help="client, sender, or monthly=true for one by itself when a month is over",
    )
    report.set_defaults(command=_report)

    webhooks = commands.add("webhooks")
    webhooks.add_argument("library")
    webhooks.add_argument("number", type=int, nargs="?", help="one of them; all without")
    webhooks.add_argument("--add", metavar="ADDRESS", help="tell a further address; shows its secret once")
    webhooks.add_argument("--address", metavar="ADDRESS", help="send to another address")
    webhooks.add_argument("--new-secret", action="store_true", help="make another secret to sign with")
    webhooks.add_argument("--try", dest="trial", action="store_true", help="send a message to try it")
    webhooks.add_argument("--again", metavar="MESSAGE", help="send a message again")
    webhooks.add_argument("--remove", action="store_true", help="tell it no more")
    webhooks.add_argument(
        "--events",
        type=lambda text: [one.strip() for one in text.split(",") if one.strip()],
        metavar="EVENT,…",
        help=f"what is told, of {', '.join(event for event in EventType if event is not EventType.TRIAL)}",
    )
    webhooks.set_defaults(command=_webhooks)


def _allowance(options: argparse.Namespace) -> CommandResult:
    with client() as service:
        if options.no_limit:
            view = service.allowance.set(options.library, AllowanceSettings(amount=None))
        elif options.megapixels is not None or options.files is not None:
            unit = AllowanceUnit.FILES if options.files is not None else AllowanceUnit.MEGAPIXELS
            amount = options.files if options.files is not None else options.megapixels
            view = service.allowance.set(options.library, AllowanceSettings(unit=unit, amount=amount))
        else:
            view = service.allowance.get(options.library)
    resets = f"{view.resets_at:%-d %B} ({view.time_zone})"
    if view.amount is None:
        lines: list[RenderableType] = [
            f"{view.used:,.6g} {view.unit} used in {view.month}; there is no limit."
        ]
    else:
        lines = [
            f"{view.used:,.6g} of {view.amount:,} {view.unit} used in {view.month}; anew on {resets}.",
        ]
    if view.notice:
        lines.append(Text(view.notice, style=CLAY))
    if view.files_waiting:
        lines.append(f"{view.files_waiting:,} files wait for it.")
    if view.months:
        rows = [(one.month, f"{one.files:,}", f"{one.megapixels:,.1f}") for one in view.months]
        lines += ["", table(("month", "files", "megapixels"), rows, right=("files", "megapixels"))]
    return CommandResult(view, lines)


def _report(options: argparse.Namespace) -> CommandResult:
    with client() as service:
        if options.changes:
            values = service.reports.settings(options.library).model_dump(mode="json")
            try:
                change_settings(values, options.changes)
            except ValueError as error:
                raise WrongCommand(str(error)) from None
            settings = service.reports.save_settings(options.library, ReportSettings.model_validate(values))
            rows = [(name, shown(value)) for name, value in settings.model_dump().items()]
            return CommandResult(settings, [table(("setting", "value"), rows)])
        if options.keep:
            job = service.jobs.wait(service.reports.keep(options.library, options.keep).id)
            if job.reason:
                return CommandResult(job, [f"The report of {options.keep}: {job.reason}."], 1)
            made = job.report
            where = f", also in {made.folder}" if made and made.folder else ""
            return CommandResult(job, [f"The report of {options.keep} is kept{where}."])
        written: list[RenderableType] = []
        for form, place in (("pdf", options.pdf), ("csv", options.csv)):
            if place is not None:
                data = service.reports.file(options.library, form, options.begins, options.ends)
                place.write_bytes(data)
                written.append(f"Written to {place}, {size(len(data))}.")
        if written:
            return CommandResult({"pdf": _path(options.pdf), "csv": _path(options.csv)}, written)
        report = service.reports.figures(options.library, options.begins, options.ends)
    return CommandResult(report, _lines(report))


def _path(place: Path | None) -> str | None:
    return None if place is None else str(place)


def _lines(report: SavingsReport) -> list[RenderableType]:
    months = report.begins if report.begins == report.ends else f"{report.begins} to {report.ends}"
    lines: list[RenderableType] = [
        Text(plain(f"For {report.client}: {report.name}, {months}"), style="bold"),
        f"{report.treated.files:,} files of {report.pictures:,} pictures were treated and "
        f"{report.copies:,} copies stand beside them.",
        "",
        *_slats("month", report.by_month),
        *_slats("format", report.by_format),
        *_slats("folder", report.by_folder),
    ]
    if report.sent.requests:
        spared = report.sent.bytes_before - report.sent.bytes
        lines.append(
            f"Visitors were sent {size(report.sent.bytes)} in {report.sent.requests:,} requests, "
            f"{size(max(0, spared))} less than before."
        )
    if report.pages:
        rows = [
            (
                page.address,
                page.device,
                size(page.picture_bytes_first),
                size(page.picture_bytes_latest),
                _seconds(page.lcp_first),
                _seconds(page.lcp_latest),
            )
            for page in report.pages
        ]
        heads = ("page", "on", "pictures", "now", "painted", "now ")
        lines += ["", table(heads, rows, right=heads[2:])]
    return lines


def _seconds(value: float | None) -> str:
    return "–" if value is None else f"{value:.2f} s"


def _slats(noun: str, slats: list[Slat]) -> list[RenderableType]:
    if not slats:
        return []
    scale = max(one.bytes_before for one in slats)
    rows = [
        (
            one.name or "the folder itself",
            f"{one.files:,}",
            size(one.bytes_before),
            size(one.bytes_now),
            size(one.bytes_lightest),
            Text(saved(one.bytes_before, one.bytes_lightest), style=LEAF),
            slat(one.bytes_before, one.bytes_lightest, 20, scale),
        )
        for one in slats
    ]
    heads = (noun, "files", "before", "now", "lightest", "saved", "")
    return [table(heads, rows, right=heads[1:6]), ""]


def _webhooks(options: argparse.Namespace) -> CommandResult:
    library, number = options.library, options.number
    acts = [options.address, options.new_secret, options.trial, options.again, options.remove, options.add]
    if sum(map(bool, acts)) > 1:
        raise WrongCommand("one thing at a time: --add, --address, --new-secret, --try, --again or --remove")
    if number is None and (any(acts[:-1]) or (options.events and not options.add)):
        raise WrongCommand("say which webhook: its number stands first in the list")
    if number is not None and options.add:
        raise WrongCommand("a further webhook gets its number by itself")
    secret = None
    with client() as service:
        if options.add:
            made = service.webhooks.add(library, _told(options.add, options.events or USUAL_EVENTS))
            secret, number = made.secret, made.webhook.id
        elif options.remove:
            service.webhooks.remove(library, number)
            return CommandResult({"removed": number}, [f"Webhook {number} is told nothing any more."])
        elif options.new_secret:
            secret = service.webhooks.make_secret(library, number).secret
        elif options.trial:
            service.webhooks.send_trial(library, number)
        elif options.again:
            service.webhooks.redeliver(library, number, options.again)
        elif options.address or options.events:
            former = service.webhooks.get(library, number)
            told = _told(options.address or former.address, options.events or former.events)
            service.webhooks.set(library, number, told)
        if number is None:
            return _all_webhooks(service.webhooks.all(library))
        view = service.webhooks.get(library, number)
    lines: list[RenderableType] = []
    if secret is not None:
        lines += [Text(secret, style="bold"), Text("It is shown this once.", style=QUIET)]
    value = view.model_dump(mode="json")
    return CommandResult(value | ({"secret": secret} if secret else {}), [*lines, *_one_webhook(view)])


def _told(address: str, events: list[EventType] | list[str]) -> WebhookSettings:
    try:
        return WebhookSettings.model_validate({"address": address, "events": events})
    except ValidationError as error:
        raise WrongCommand(f"{error.errors()[0]['loc'][0]}: {error.errors()[0]['msg']}") from None


def _all_webhooks(views: list[Webhook]) -> CommandResult:
    if not views:
        return CommandResult(views, ["Nobody is told: --add ADDRESS"])
    rows = [(f"{one.id}", one.address, ", ".join(one.events) or "nothing", _fares(one)) for one in views]
    return CommandResult(views, [table(("number", "address", "told", "how it fares"), rows)])


def _one_webhook(view: Webhook) -> list[RenderableType]:
    lines: list[RenderableType] = [
        f"Told to {view.address}: {', '.join(view.events) or 'nothing'}.",
        _fares(view),
    ]
    rows = [
        (
            f"{one.at.astimezone():%Y-%m-%d %H:%M}",
            str(one.type),
            one.id,
            f"{one.attempts:,}",
            Text("taken" if one.sent_at else one.said or "waits", style="" if one.sent_at else CLAY),
        )
        for one in view.messages
    ]
    if rows:
        lines.append(table(("at", "what", "message", "attempts", "how it fared"), rows, right=("attempts",)))
    return lines


def _fares(view: Webhook) -> Text:
    if view.stopped_at is not None:
        return Text(
            f"stopped {view.stopped_at.astimezone():%Y-%m-%d %H:%M}: --try starts it again", style=CLAY
        )
    if view.refused_since is not None:
        return Text(f"takes nothing since {view.refused_since.astimezone():%Y-%m-%d %H:%M}", style=CLAY)
    return Text("well" if any(one.sent_at for one in view.messages) else "nothing was told yet", style=LEAF)
