"""serving, server-rules, page, ask, traffic: what visitors get, and what it saves."""

from __future__ import annotations

import argparse
import sys
import time
from collections.abc import Iterator, Sequence
from pathlib import Path
from urllib.parse import unquote_to_bytes, urlsplit

from rich.console import RenderableType
from rich.text import Text

from plumcrate.accesslog.batches import LogBatch, batches, chunks_of, follow, number_of, opened
from plumcrate.cli.look import LEAF, QUIET, plain, slat
from plumcrate.client import Client, ProblemError
from plumcrate.contract.delivery import (
    Asked,
    AskReport,
    AskRequest,
    Browser,
    Count,
    Counts,
    Delivery,
    PageFaults,
    Purges,
    Sent,
    ServerKind,
    Traffic,
)
from plumcrate.contract.libraries import LibraryChange
from plumcrate.words import saved, size

from .common import CommandResult, Commands, WrongCommand, changed, client, console, shown, table

_BROWSERS = {Browser.OLD: "an old browser", Browser.WEBP: "one with WebP", Browser.AVIF: "one with AVIF"}


def add_commands(commands: Commands) -> None:
    serving = commands.add("serving")
    serving.add_argument("library")
    serving.add_argument(
        "--set",
        dest="changes",
        action="append",
        metavar="NAME=VALUE",
        default=[],
        help="such as public=true, address=https://ledge.example/media or markup.eager=3",
    )
    serving.set_defaults(command=_serving)

    rules = commands.add("server-rules")
    rules.add_argument("library")
    rules.add_argument("server", choices=[str(server) for server in ServerKind])
    rules.set_defaults(command=_rules)

    page = commands.add("page")
    page.add_argument("library")
    page.add_argument("file", type=Path, help="the page; - for standard input")
    page.add_argument("--at", default="/", metavar="ADDRESS", help="where the page is on the site")
    page.set_defaults(command=_page)

    ask = commands.add("ask")
    ask.add_argument("library")
    ask.add_argument("path", nargs="?", help="a file's path in the library")
    ask.add_argument("--page", metavar="ADDRESS", help="instead, all pictures of a page of the site")
    ask.set_defaults(command=_ask)

    traffic = commands.add("traffic")
    traffic.add_argument("library")
    traffic.add_argument("--days", type=int, default=30, help="so many days back (default 30)")
    traffic.add_argument(
        "--log",
        action="append",
        type=Path,
        metavar="FILE",
        default=[],
        help="count a log first: plain or gzip, Common, Combined or JSON lines; each line counts once",
    )
    traffic.add_argument("--follow", action="store_true", help="stay, and count the log as it grows")
    traffic.set_defaults(command=_traffic)


def _serving(options: argparse.Namespace) -> CommandResult:
    delivery = changed(Delivery, options.changes) if options.changes else None
    with client() as service:
        if delivery is None:
            library = service.libraries.get(options.library)
        else:
            library = service.libraries.change(options.library, LibraryChange(delivery=delivery))
        purges = service.serving.purges(options.library)
        faults = service.pages.faults(options.library)
    rows = []
    for name, value in library.delivery.model_dump(mode="json").items():
        if isinstance(value, dict):
            rows += [(f"{name}.{inner}", shown(each)) for inner, each in value.items()]
        else:
            rows.append((name, shown(value)))
    return CommandResult(
        library.delivery, [table(("setting", "value"), rows), *_purge_lines(purges), *_fault_lines(faults)]
    )


def _purge_lines(purges: Purges) -> list[RenderableType]:
    if not purges.waiting:
        return []
    said = f"{purges.waiting:,} addresses wait for being told to the caches."
    if purges.failing:
        return [Text(f"! {said} {purges.failing:,} are tried again: {purges.said}", style="yellow")]
    return [said]


def _fault_lines(faults: PageFaults) -> list[RenderableType]:
    if not faults.times:
        return []
    said = f"! {faults.times:,} pages could not be rewritten and left as their authors wrote them:"
    rows = [(fault.page, fault.reason, f"{fault.times:,}") for fault in faults.faults]
    return [Text(said, style="yellow"), table(("page", "why", "times"), rows)]


def _rules(options: argparse.Namespace) -> CommandResult:
    with client() as service:
        text = service.serving.rules(options.library, ServerKind(options.server)).decode()
    return CommandResult({"server": options.server, "rules": text}, [text.rstrip("\n")])


def _page(options: argparse.Namespace) -> CommandResult:
    try:
        content = sys.stdin.buffer.read() if str(options.file) == "-" else options.file.read_bytes()
    except OSError as error:
        raise WrongCommand(f"{options.file}: {error.strerror}") from None
    with client() as service:
        rewritten = service.pages.rewrite(options.library, content, options.at)
    if options.json:
        return CommandResult({"bytes_before": len(content), "bytes": len(rewritten)})
    sys.stdout.buffer.write(rewritten)  # a page has bytes, whatever the terminal's encoding
    sys.stdout.buffer.flush()
    return CommandResult(None)


def _ask(options: argparse.Namespace) -> CommandResult:
    if (options.path is None) == (options.page is None):
        raise WrongCommand("name either a file of the library, or a page with --page")
    with client() as service, console.status("Asking the site as three browsers …"):
        report = service.serving.ask(options.library, AskRequest(path=options.path, page=options.page))
    lines: list[RenderableType] = []
    for row in report.rows:
        lines += _asked_lines(row)
    lines += [Text(note, QUIET) for note in report.notes]
    lines.append(_verdict(report))
    return CommandResult(report, lines, 0 if report.right else 1)


def _asked_lines(row: Asked) -> list[RenderableType]:
    head = f"{plain(row.path)}  {size(row.bytes)}"
    if row.file_id is None:
        head = f"{plain(row.path)}  not on record"
    rows = []
    for got in row.got:
        symbol = Text("✓", LEAF) if got.fault is None else Text("!", "yellow")
        said = got.fault or got.cache or ""
        kind = got.media_type or "–"
        rows.append(
            (symbol, _BROWSERS[got.browser], str(got.status or "–"), kind, size(got.bytes), plain(said))
        )
    return [head, table(("", "browser", "status", "type", "bytes", ""), rows, right=("bytes",))]


def _verdict(report: AskReport) -> RenderableType:
    faults = sum(got.fault is not None for row in report.rows for got in row.got)
    if not report.rows:
        return Text("Nothing was asked for.", QUIET)
    if faults:
        return Text(f"{faults:,} answers are not as they should be.", style="yellow")
    return f"Each browser gets the lightest form it can show, of {len(report.rows):,} pictures."


def _traffic(options: argparse.Namespace) -> CommandResult:
    if options.follow and len(options.log) != 1:
        raise WrongCommand("--follow stays with one log: name it with --log")
    lines: list[RenderableType] = []
    with client() as service:
        if options.log:
            prefix = _prefix(service, options.library)
            for place in options.log:
                lines.append(_count(service, options.library, place, prefix))
        if options.follow:
            _stay(service, options.library, options.log[0], prefix)
        traffic = service.serving.traffic(options.library, options.days)
    return CommandResult(traffic, [*lines, *_traffic_lines(traffic)])


def _prefix(service: Client, library: str) -> bytes:
    """The path under which the site serves the library."""
    address = service.libraries.get(library).delivery.address
    if address is None:
        raise WrongCommand(
            f"say first where the site serves the library: "
            f"plumcrate serving {library} --set address=https://example.org/media"
        )
    return unquote_to_bytes(urlsplit(address).path.rstrip("/")) + b"/"


def _count(service: Client, library: str, place: Path, prefix: bytes) -> RenderableType:
    """Counts what of a log was not counted yet."""
    try:
        number = number_of(place)
        if number is None:
            return f"{place} has no line yet."
        begin = service.serving.log_position(library, number).position
        lines = foreign = counted = 0
        with opened(place) as log, console.status(f"Counting {place} …"):
            for batch in batches(chunks_of(log, begin), begin, prefix):
                _tell(service, library, number, batch)
                lines, foreign = lines + batch.lines, foreign + batch.foreign
                counted += sum(requests for requests, _ in batch.counts.values())
    except OSError as error:
        raise WrongCommand(f"{place}: {error.strerror or error}") from None
    if not lines:
        return f"{place}: counted already."
    passed = f"; {foreign:,} lines are of another kind" if foreign else ""
    return f"{place}: {counted:,} answers with pictures in {lines:,} lines{passed}."


def _stay(service: Client, library: str, place: Path, prefix: bytes) -> None:
    """Counts a log as it grows, and the next when it is rotated, until interrupted."""
    console.print(f"Following {place}; stop with Ctrl-C.")
    try:
        while True:
            number = number_of(place)
            if number is None:
                time.sleep(1.0)
                continue
            begin = service.serving.log_position(library, number).position
            for piece, at in _pieces(follow(place, begin), begin):
                for batch in batches(iter([piece]), at, prefix):
                    _tell(service, library, number, batch)
    except KeyboardInterrupt:
        return


def _pieces(chunks: Iterator[bytes], begin: int) -> Iterator[tuple[bytes, int]]:
    """Whole lines of what grows, as often as nothing more is there."""
    held, at = b"", begin
    for chunk in chunks:
        held += chunk
        end = held.rfind(b"\n") + 1
        if end and (not chunk or len(held) > 1 << 20):
            yield held[:end], at
            held, at = held[end:], at + end


def _tell(service: Client, library: str, number: str, batch: LogBatch) -> None:
    counts = [
        Count(day=day, path=path.decode(), requests=requests, bytes=of_one, total=total, bot=bot)
        for (day, path, of_one, bot), (requests, total) in batch.counts.items()
        if _is_path(path)
    ]
    try:
        service.serving.count_log(
            library, Counts(log=number, begin=batch.begin, end=batch.end, counts=counts)
        )
    except ProblemError as error:
        if error.code != "counted-already":
            raise
        raise WrongCommand("another command is counting this log") from None


def _is_path(path: bytes) -> bool:
    try:
        text = path.decode()
    except UnicodeDecodeError:
        return False
    return text.isprintable()


def _traffic_lines(traffic: Traffic) -> list[RenderableType]:
    total = traffic.total
    if not total.requests:
        return [f"No visitor was sent a picture in the last {traffic.days:,} days, as far as was counted."]
    lines: list[RenderableType] = [
        f"In {traffic.days:,} days visitors were sent {total.requests:,} pictures, {size(total.bytes)} "
        f"instead of {size(total.bytes_before)} ({saved(total.bytes_before, total.bytes)}).",
        Text(f"Programs fetched {traffic.bots.requests:,} more ({size(traffic.bots.bytes)}).", QUIET),
    ]
    for title, rows in (("by day", traffic.by_day), ("by format", traffic.by_format)):
        lines += ["", _sent_table(title, rows)]
    return [*lines, "", _sent_table("what saved most", traffic.by_picture[:10])]


def _sent_table(title: str, rows: Sequence[Sent]) -> RenderableType:
    scale = max((row.bytes_before for row in rows), default=1)
    columns = (title, "answers", "would have been", "sent", "saved", " ")
    return table(
        columns,
        [
            (
                plain(row.name),
                f"{row.requests:,}",
                size(row.bytes_before),
                size(row.bytes),
                saved(row.bytes_before, row.bytes),
                slat(row.bytes_before, row.bytes, 28, scale),
            )
            for row in rows
        ],
        right=columns[1:-1],
    )
