"""weigh, weights, page-settings, treat-page: what pages weigh, now and as a recipe would have them."""

from __future__ import annotations

import argparse
import re
import sys
from collections.abc import Iterator, Sequence
from pathlib import Path

from rich.console import RenderableType
from rich.text import Text

from plumcrate.cli.look import CLAY, LEAF, PLUM, QUIET, plain, points, slat
from plumcrate.client import Client
from plumcrate.contract.common import Level
from plumcrate.contract.jobs import JobState
from plumcrate.contract.weighing import (
    Budget,
    Device,
    HeaderLine,
    Line,
    PageFinding,
    PageSettings,
    Point,
    Processor,
    Reading,
    Secrets,
    SitePage,
    Spread,
    Weighing,
    WeighingKind,
    WeighRequest,
    WhatIf,
)
from plumcrate.words import saved, size

from .common import CommandResult, Commands, WrongCommand, client, console, table

_UNITS = {"": 1, "b": 1, "kb": 1_000, "mb": 1_000_000, "gb": 1_000_000_000}
_OF_BYTES, _OF_SECONDS = ("bytes", "pictures"), ("fcp", "lcp", "load")
_TIMES = (("ttfb", "first byte"), ("fcp", "first paint"), ("lcp", "largest paint"), ("load", "loaded"))
_MOST_FINDINGS, _MOST_PICTURES = 12, 30


def add_commands(commands: Commands) -> None:
    weigh = commands.add("weigh")
    weigh.add_argument("library")
    weigh.add_argument("address", nargs="*", help="https://…, or a path on the site such as /visit")
    weigh.add_argument("--sitemap", metavar="URL", help="weigh the pages that a sitemap, or a list, names")
    weigh.add_argument("--device", action="append", choices=[str(device) for device in Device])
    weigh.add_argument("--line", choices=[str(line) for line in Line], help="what the visitor's line is like")
    weigh.add_argument("--processor", choices=[str(processor) for processor in Processor])
    weigh.add_argument("--passes", type=int, default=3, help="so often on each device; medians are told")
    weigh.add_argument("--plain", action="store_true", help="without a browser, from the markup alone")
    weigh.add_argument(
        "--what-if",
        action="append",
        default=[],
        metavar="LEVEL",
        help="also as a level would make its pictures; “recipe” for the recipe in use. May be repeated",
    )
    weigh.add_argument("--fit", action="store_true", help="with --what-if: in the sizes that places need")
    weigh.add_argument(
        "--own-markup", action="store_true", help="with --what-if: with the page's markup as it is"
    )
    weigh.add_argument("--budget", help="such as bytes=400kB,lcp=2.5s: exit code 1 when a page is over it")
    weigh.add_argument("--pictures", action="store_true", help="list every picture in its place")
    weigh.add_argument("--no-wait", action="store_true")
    weigh.set_defaults(command=_weigh)

    weights = commands.add("weights", rows=SitePage)
    weights.add_argument("library")
    weights.add_argument("address", nargs="?", help="one page: its history")
    weights.set_defaults(command=_weights)

    settings = commands.add("page-settings")
    settings.add_argument("library")
    settings.add_argument("address")
    settings.add_argument("--budget", help="such as bytes=400kB,lcp=2.5s; “none” for none")
    settings.add_argument("--schedule", help="five fields as of cron; “none” for none")
    settings.add_argument("--after-runs", choices=("yes", "no"))
    settings.add_argument(
        "--sign-in",
        metavar="FILE",
        help="lines such as “Cookie: name=value” or “Authorization: …”, - for standard input; kept sealed",
    )
    settings.add_argument("--no-sign-in", action="store_true", help="forget what signs in")
    settings.add_argument("--forget", action="store_true", help="forget the page and its weighings")
    settings.set_defaults(command=_settings)

    treat = commands.add("treat-page")
    treat.add_argument("weighing", type=int)
    treat.add_argument("--everything", action="store_true", help="also what is below the first view")
    treat.set_defaults(command=_treat)


# -- what was asked for ----------------------------------------------------------------------------


def budget_of(text: str) -> Budget:
    """``bytes=400kB,pictures=300kB,requests=40,lcp=2.5s,cls=0.1``. Raises WrongCommand."""
    values: dict[str, object] = {}
    for part in text.split(","):
        name, equals, written = (piece.strip() for piece in part.partition("="))
        if not equals or name not in Budget.model_fields:
            known = ", ".join(Budget.model_fields)
            raise WrongCommand(f"a budget is written as bytes=400kB,lcp=2.5s; it knows {known}, not “{name}”")
        values[name] = _amount(name, written)
    return Budget.model_validate(values)


def _amount(name: str, written: str) -> float | int:
    match = re.fullmatch(r"(\d+(?:\.\d+)?)\s*([A-Za-z]*)", written)
    if match is not None:
        number, unit = float(match[1]), match[2].lower()
        if name in _OF_BYTES and unit in _UNITS:
            return round(number * _UNITS[unit])
        if name in _OF_SECONDS and unit in ("", "s", "ms"):
            return number / 1_000 if unit == "ms" else number
        if name == "requests" and not unit:
            return round(number)
        if name == "cls" and not unit:
            return number
    raise WrongCommand(f"“{written}” is no amount of {name}")


def _what_ifs(options: argparse.Namespace) -> list[WhatIf]:
    found = []
    for level in options.what_if:
        if level != "recipe" and level not in [str(each) for each in Level]:
            raise WrongCommand(f"“{level}” is no level: {', '.join(Level)}, or recipe")
        chosen = None if level == "recipe" else Level(level)
        found.append(WhatIf(level=chosen, fit=options.fit, markup=not options.own_markup))
    return found


def _weigh(options: argparse.Namespace) -> CommandResult:
    if not options.address and options.sitemap is None:
        raise WrongCommand("name a page, or a --sitemap")
    request = WeighRequest(
        addresses=options.address,
        sitemap=options.sitemap,
        devices=[Device(device) for device in options.device or list(Device)],
        line=options.line,
        processor=options.processor,
        passes=options.passes,
        plain=options.plain,
        what_if=_what_ifs(options),
        budget=budget_of(options.budget) if options.budget else None,
    )
    with client() as service:
        job = service.weighings.start(options.library, request)
        if options.no_wait:
            return CommandResult(job, [f"Weighing {job.id} has started."])
        with console.status("Weighing …"):
            job = service.jobs.wait(job.id)
        report = job.weighing
        weighed = [service.weighings.get(number) for number in (report.weighings if report else [])]
    lines: list[RenderableType] = [Text(note, QUIET) for note in (report.notes if report else [])]
    for one in weighed:
        lines += _weighing_lines(one, weighed, pictures=options.pictures)
    if job.state is not JobState.FINISHED:
        lines.append(Text(f"The weighing has {job.state}" + (f": {job.reason}" if job.reason else "."), CLAY))
    failed = job.state is not JobState.FINISHED or any(one.fault or one.over for one in weighed)
    return CommandResult(weighed, lines, int(failed))


def _weights(options: argparse.Namespace) -> CommandResult:
    with client() as service:
        if options.address is None:
            pages = service.site_pages.all(options.library)
            return CommandResult(pages, _pages_lines(options.library, pages))
        page = _page(service, options.library, options.address)
        history = service.weighings.history(page.id)
    return CommandResult(history, _history_lines(page, history))


def _page(service: Client, library: str, address: str) -> SitePage:
    """A page by its address, or by the end of it."""
    pages = service.site_pages.all(library)
    found = [page for page in pages if page.address == address] or [
        page for page in pages if page.address.endswith(address)
    ]
    if len(found) != 1:
        raise WrongCommand(f"{'several pages end' if found else 'no page is known that ends'} with {address}")
    return found[0]


def _settings(options: argparse.Namespace) -> CommandResult:
    with client() as service:
        if options.forget:
            page = _page(service, options.library, options.address)
            service.site_pages.forget(page.id)
            return CommandResult(
                page, [f"{page.address} and its {page.weighings:,} weighings are forgotten."]
            )
        known = {page.address: page for page in service.site_pages.all(options.library)}.get(options.address)
        settings = PageSettings(
            budget=known.budget if known else None,
            schedule=known.schedule if known else None,
            after_runs=known.after_runs if known else False,
        )
        if options.budget is not None:
            settings.budget = None if options.budget == "none" else budget_of(options.budget)
        if options.schedule is not None:
            settings.schedule = None if options.schedule == "none" else options.schedule
        if options.after_runs is not None:
            settings.after_runs = options.after_runs == "yes"
        if options.no_sign_in:
            settings.secrets = Secrets()
        elif options.sign_in is not None:
            settings.secrets = _secrets(options.sign_in)
        page = service.site_pages.change(options.library, options.address, settings)
    return CommandResult(page, list(_settings_lines(page)))


def _secrets(place: str) -> Secrets:
    try:
        text = sys.stdin.read() if place == "-" else Path(place).read_text()
    except OSError as error:
        raise WrongCommand(f"{place}: {error.strerror or error}") from None
    cookies, headers = [], []
    for line in filter(str.strip, text.splitlines()):
        name, colon, value = (part.strip() for part in line.partition(":"))
        if not colon:
            raise WrongCommand("what signs in is written in lines such as “Cookie: name=value”")
        if name.lower() != "cookie":
            headers.append(HeaderLine(name=name, value=value))
            continue
        for pair in filter(str.strip, value.split(";")):
            key, _, held = pair.strip().partition("=")
            cookies.append(HeaderLine(name=key, value=held))
    return Secrets(cookies=cookies, headers=headers)


def _treat(options: argparse.Namespace) -> CommandResult:
    with client() as service:
        run = service.weighings.treat(options.weighing, everything=options.everything)
    said = f"Run {run.id} treats {run.files:,} files that the page shows. Follow it: plumcrate watch {run.id}"
    return CommandResult(run, [said])


# -- in words --------------------------------------------------------------------------------------


def title_of(one: Weighing) -> str:
    """What kind of weighing it is."""
    if one.kind is WeighingKind.PLAIN:
        return "from its markup"
    if one.what_if is None:
        return "as it is"
    level = f"at {one.what_if.level}" if one.what_if.level else "by the recipe"
    size_too = ", in the sizes its places need" if one.what_if.fit else ""
    return f"what if: {level}{size_too}"


def _weighing_lines(
    one: Weighing, all_of_them: Sequence[Weighing], *, pictures: bool
) -> list[RenderableType]:
    lines: list[RenderableType] = ["", Text(f"{plain(one.address)}  {title_of(one)}  ({one.id})", "bold")]
    if one.fault is not None:
        return [*lines, Text(f"It could not be weighed: {plain(one.fault)}.", CLAY)]
    real = next(
        (
            each
            for each in all_of_them
            if each.page_id == one.page_id and each.kind is WeighingKind.REAL and one.what_if is not None
        ),
        None,
    )
    for reading in one.readings:
        before = real.reading(reading.device) if real is not None else None
        lines += _reading_lines(reading, before)
        if pictures:
            lines.append(_pictures_table(reading))
    lines += _findings_lines(one.findings)
    lines += [
        Text(
            f"  over budget on {each.device}: {each.name} {_amount_said(each.name, each.found)}, "
            f"allowed {_amount_said(each.name, each.allowed)}",
            CLAY,
        )
        for each in one.over
    ]
    if one.budget is not None and not one.over:
        lines.append(Text("  within its budget", LEAF))
    return lines + [Text(f"  {plain(note)}", QUIET) for note in one.notes]


def _reading_lines(reading: Reading, before: Reading | None) -> list[RenderableType]:
    weight = round(reading.bytes.median)
    lines: list[RenderableType] = [
        Text(f"{reading.device}, {reading.line} line, {reading.processor} processor", PLUM)
    ]
    first = round(before.bytes.median) if before is not None else weight
    said = f"{size(weight)} in {reading.requests.median:.0f} requests"
    if before is not None:
        said += f", instead of {size(first)} ({saved(first, weight)})"
    if reading.first_bytes.median < reading.bytes.median:
        said += f"; {size(round(reading.first_bytes.median))} of it before anybody scrolls"
    lines.append(f"  {said}")
    times = [f"{word} {_seconds(getattr(reading, name))}" for name, word in _TIMES if getattr(reading, name)]
    if reading.cls is not None:
        times.append(f"jumps by {reading.cls.median:.3f}")
    if times:
        lines.append(f"  {', '.join(times)}; medians of {reading.passes}")
    if reading.largest_paint:
        lines.append(Text(f"  largest paint: {plain(reading.largest_paint)}", QUIET))
    rows = []
    for kind in reading.kinds:
        was = before.of_kind(kind.name) if before is not None else kind.bytes
        top = max((each.bytes for each in (before or reading).kinds), default=1)
        rows.append(
            (
                kind.name,
                f"{kind.requests:,}",
                size(kind.bytes),
                slat(max(was, kind.bytes), kind.bytes, 30, top),
            )
        )
    lines.append(table(("  kind", "requests", "bytes", " "), rows, right=("requests", "bytes")))
    return lines + [Text(f"  {plain(note)}", QUIET) for note in reading.notes]


def _seconds(spread: Spread) -> str:
    low, high = f"{spread.low:.2f}", f"{spread.high:.2f}"
    return f"{spread.median:.2f} s" + (f" ({low} to {high})" if low != high else "")


def _pictures_table(reading: Reading) -> RenderableType:
    rows = []
    for one in reading.pictures[:_MOST_PICTURES]:
        cells = [
            word
            for word, holds in (
                ("first view", one.first_view),
                ("late", one.lazy),
                ("largest paint", one.largest_paint),
            )
            if holds
        ]
        need = f"{one.needed_width}×{one.needed_height}" if one.needed_width else "not shown"
        rows.append(
            (
                str(one.number),
                one.format,
                size(one.bytes),
                f"{one.natural_width}×{one.natural_height}",
                need,
                points(one.seen.score if one.seen else None),
                ", ".join(cells),
                plain(one.path or one.address),
            )
        )
    columns = ("", "format", "bytes", "file", "place", "seen", "where", "picture")
    return table(columns, rows, right=("", "bytes", "file", "place", "seen"))


def _findings_lines(findings: Sequence[PageFinding]) -> Iterator[RenderableType]:
    for one in findings[:_MOST_FINDINGS]:
        won = " and ".join(
            part
            for part in (
                size(one.bytes) if one.bytes else "",
                f"{one.seconds:.1f} s" if one.seconds >= 0.1 else "",
            )
            if part
        )
        numbers = ", ".join(f"{number}" for number in one.pictures[:8]) + (
            " …" if len(one.pictures) > 8 else ""
        )
        which = f"pictures {numbers}" if len(one.pictures) > 1 else f"picture {numbers}"
        yield Text.assemble(
            ("  " + (f"−{won}" if won else "to mend"), LEAF if won else CLAY),
            f"  {one.device}, {which}: {plain(one.text)}",
        )
        yield Text(f"      {plain(one.action)}", QUIET)
    if len(findings) > _MOST_FINDINGS:
        yield Text(f"  and {len(findings) - _MOST_FINDINGS:,} more", QUIET)


def _amount_said(name: str, value: float | None) -> str:
    if value is None:
        return "could not be measured"
    if name in _OF_BYTES:
        return size(round(value))
    return f"{value:.2f} s" if name in _OF_SECONDS else f"{value:g}"


def _pages_lines(library: str, pages: Sequence[SitePage]) -> list[RenderableType]:
    if not pages:
        return [f"No page has been weighed yet. Next: plumcrate weigh {library} /"]
    rows = []
    for page in pages:
        latest = {point.device: point for point in page.latest}
        first = {point.device: point for point in page.first}
        for device in Device:
            if device not in latest:
                continue
            now, was = latest[device], first.get(device, latest[device])
            rows.append(
                (
                    plain(page.address),
                    str(device),
                    size(was.bytes),
                    size(now.bytes),
                    saved(was.bytes, now.bytes),
                    _lcp(was),
                    _lcp(now),
                    "over" if page.over else "",
                    slat(max(was.bytes, now.bytes), now.bytes, 20),
                )
            )
        if page.fault:
            rows.append((plain(page.address), "", "", "", "", "", "", plain(page.fault), Text("")))
    columns = ("page", "device", "first", "now", "saved", "paint first", "paint now", "budget", " ")
    return [table(columns, rows, right=columns[2:7])]


def _lcp(point: Point) -> str:
    return "–" if point.lcp is None else f"{point.lcp:.2f} s"


def _history_lines(page: SitePage, history: Sequence[Point]) -> list[RenderableType]:
    rows = []
    top = max((point.bytes for point in history), default=1)
    for point in history:
        what = "as it was" if point.kind is not WeighingKind.PREDICTED else "predicted"
        rows.append(
            (
                f"{point.at:%Y-%m-%d %H:%M}",
                str(point.device),
                what,
                size(point.bytes),
                size(point.pictures),
                _lcp(point),
                str(point.weighing_id),
                slat(point.bytes, point.bytes, 24, top),
            )
        )
    columns = ("when", "device", "", "weight", "pictures", "largest paint", "weighing", " ")
    return [plain(page.address), table(columns, rows, right=columns[3:7])]


def _settings_lines(page: SitePage) -> Iterator[RenderableType]:
    yield plain(page.address)
    budget = page.budget.model_dump(exclude_none=True) if page.budget else {}
    said = ", ".join(f"{name} {_amount_said(name, value)}" for name, value in budget.items()) or "none"
    yield f"  budget: {said}"
    when = [f"by the schedule {page.schedule}"] if page.schedule else []
    when += ["after runs"] if page.after_runs else []
    yield f"  weighed by itself: {', '.join(when) or 'never'}"
    yield f"  signs in: {'yes, sealed' if page.has_secrets else 'no'}"
