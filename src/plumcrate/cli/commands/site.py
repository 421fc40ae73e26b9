"""set-up: from a folder and an address to lighter pages, one question asked, everything checked."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import urljoin, urlsplit

from rich.console import RenderableType
from rich.text import Text

from plumcrate.cli.look import LEAF, QUIET, plain
from plumcrate.client import Client
from plumcrate.contract.automation import NewFiles
from plumcrate.contract.common import Level
from plumcrate.contract.delivery import AskReport, AskRequest, Delivery, ServerKind
from plumcrate.contract.jobs import ForecastRequest, Job, JobState, SurveyReport
from plumcrate.contract.libraries import Library, LibraryChange, LibraryRequest
from plumcrate.contract.runs import RunRequest
from plumcrate.contract.weighing import Device, Weighing, WeighRequest
from plumcrate.words import saved, size

from .common import CommandResult, Commands, WrongCommand, client, console, table
from .runs import follow_run

_FORECAST_SECONDS = 30.0
#: What servers call themselves, and whose rules they read.
_SERVERS = {"nginx": ServerKind.NGINX, "apache": ServerKind.APACHE, "caddy": ServerKind.CADDY}
_PLACES = {
    ServerKind.NGINX: "its three parts say where each belongs",
    ServerKind.APACHE: "as .htaccess in the folder, or within its <Directory>",
    ServerKind.CADDY: "within the site's block",
}


def add_commands(commands: Commands) -> None:
    parser = commands.add("set-up")
    parser.add_argument("folder", type=Path, help="the media folder, as the service's machine sees it")
    parser.add_argument("address", help="where visitors fetch that folder: https://site.example/media/")
    parser.add_argument("--name", help="the library's name; by default the folder's")
    parser.add_argument("--slug", help="the short name used in commands")
    parser.add_argument("--level", choices=[str(level) for level in Level], default="everyday")
    parser.add_argument("--map", type=Path, metavar="FILE", help="JSON lines: which file was made of which")
    parser.add_argument(
        "--page", metavar="ADDRESS", help="weighed before and after; by default the site's front page"
    )
    parser.add_argument("--server", choices=[str(kind) for kind in ServerKind], help="by default it is asked")
    parser.add_argument("--rules", type=Path, metavar="FILE", help="where to write the rules for the server")
    parser.add_argument("--yes", action="store_true", help="ask nothing: do what is proposed")
    parser.set_defaults(command=_set_up)


@dataclass(frozen=True, slots=True)
class _Found:
    """What the site was found to be."""

    library: Library
    survey: SurveyReport
    server: ServerKind | None
    page: str
    before: Weighing | None
    forecast: Job | None


def _set_up(options: argparse.Namespace) -> CommandResult:
    console.stderr = options.json  # the answer alone is JSON
    with client() as service:
        found = _look(service, options)
        _say(*_proposal(found, options))
        if not _agreed(options):
            said = "Nothing was changed. The library stays connected: plumcrate libraries"
            return CommandResult(found.library, [said], code=1)
        _serve(service, found, options)
        run = service.runs.start(RunRequest(library=found.library.slug))
        ended = follow_run(service, run.id, quiet=options.json)
        _say(*ended.lines)
        asked = _checked(service, found)
        after = _weighed(service, found.library.slug, found.page) if found.before else None
    right = asked is None or asked.right
    return CommandResult(
        found.library,
        [*_page_lines(found.before, after), *_next_lines(found)],
        code=int(bool(ended.code) or not right),
    )


# -- looking: nothing is changed but that the library is connected ------------------------------------


def _look(service: Client, options: argparse.Namespace) -> _Found:
    library = _connected(service, options)
    slug = library.slug
    if options.map is not None:
        taken = service.libraries.put_mapping(slug, _bytes_of(options.map))
        _say(
            f"{taken.taken:,} renditions are told by the site, {taken.refused:,} lines refused.",
            *taken.faults,
        )
    with console.status("Looking through the folder …"):
        job = service.jobs.wait(service.jobs.survey(slug).id)
    if job.state is not JobState.FINISHED or job.survey is None:
        raise WrongCommand(f"the survey has {job.state}: {job.reason or 'the service log says why'}")
    _say(*_survey_lines(job.survey))
    delivery = library.delivery.model_dump() | {"public": True, "address": options.address}
    library = service.libraries.change(slug, LibraryChange(delivery=Delivery.model_validate(delivery)))
    server = ServerKind(options.server) if options.server else _server_of(service, slug)
    _say(f"The site is served by {server or 'a server that does not say its name'}.")
    page = options.page or urljoin(options.address, "/")
    before = _weighed(service, slug, page)
    with console.status("Treating a sample in memory …"):
        forecast = service.jobs.wait(
            service.jobs.forecast(slug, ForecastRequest(seconds=_FORECAST_SECONDS)).id
        )
    return _Found(library, job.survey, server, page, before, forecast)


def _connected(service: Client, options: argparse.Namespace) -> Library:
    root = str(options.folder.absolute())
    known = next((each for each in service.libraries.all() if each.root == root), None)
    if known is not None:
        _say(f"{root} is connected already, as {known.slug}.")
        return known
    name = options.name or options.folder.name or root
    library = service.libraries.connect(
        LibraryRequest(name=name, root=root, slug=options.slug, level=Level(options.level))
    )
    _say(f"Connected {root} as {library.slug}.")
    return library


def _bytes_of(place: Path) -> bytes:
    try:
        return place.read_bytes()
    except OSError as error:
        raise WrongCommand(f"{place}: {error.strerror or error}") from None


def _survey_lines(report: SurveyReport) -> Iterator[RenderableType]:
    by_names = report.renditions - report.renditions_told
    yield (
        f"{report.pictures:,} pictures in {report.files_seen:,} files; {report.renditions:,} are renditions "
        f"of others, {report.renditions_told:,} as the site says and {by_names:,} by their names."
    )
    for note in report.notes[:5]:
        yield Text(f"  {note}", QUIET)


def _server_of(service: Client, slug: str) -> ServerKind | None:
    """By what it calls itself in an answer with a picture."""
    pictures = service.pictures.page(slug, limit=1).rows
    if not pictures:
        return None
    asked = service.serving.ask(slug, AskRequest(path=pictures[0].path))
    names = [got.headers.get("server", "").lower() for row in asked.rows for got in row.got]
    return next((kind for name in names for word, kind in _SERVERS.items() if word in name), None)


def _weighed(service: Client, slug: str, page: str) -> Weighing | None:
    """The page on a phone, once; None where it could not be weighed, which is said."""
    request = WeighRequest(addresses=[page], devices=[Device.PHONE], passes=1)
    with console.status(f"Weighing {page} …"):
        job = service.jobs.wait(service.weighings.start(slug, request).id)
    numbers = job.weighing.weighings if job.weighing else []
    weighing = service.weighings.get(numbers[0]) if numbers else None
    fault = weighing.fault if weighing else job.reason or "it could not be weighed"
    if weighing is None or fault:
        _say(Text(f"! {page}: {fault}", "yellow"))
        return None
    return weighing


# -- proposing and doing -------------------------------------------------------------------------------


def _proposal(found: _Found, options: argparse.Namespace) -> Iterator[RenderableType]:
    outlook = found.forecast.forecast.outlook if found.forecast and found.forecast.forecast else None
    yield ""
    yield Text("What is proposed:", "bold")
    library = found.library
    yield f"  Treat {library.files_new:,} files at the level {library.level}, with {_copies(library)}."
    if outlook is not None and outlook.wanted_seconds is not None:
        yield "    What that saves is not known yet: too little could be looked at in half a minute."
    elif outlook is not None and outlook.files:
        low, high = outlook.bytes_lightest.low, outlook.bytes_lightest.high
        yield (
            f"    {size(outlook.bytes_before)} become {size(low)} to {size(high)} in a modern browser "
            f"({saved(outlook.bytes_before, high)} to {saved(outlook.bytes_before, low)})."
        )
    if found.server is not None:
        yield f"  Write rules for {found.server} into {_rules_file(found, options)}; you include them."
    else:
        yield "  No rules are written: name the server with --server, or let this service send the pictures."
    yield "  Treat pictures that come later as soon as the site has written them."
    yield "  Every original is kept in the backup; plumcrate restore brings all of it back."


def _copies(library: Library) -> str:
    return " and ".join(f"{format} copies" for format in library.copy_formats) or "no copies"


def _rules_file(found: _Found, options: argparse.Namespace) -> Path:
    place: Path = options.rules or Path(f"{found.library.slug}.{found.server}.conf")
    return place.absolute()


def _agreed(options: argparse.Namespace) -> bool:
    if options.yes:
        return True
    if not sys.stdin.isatty():
        raise WrongCommand("there is nobody to ask here: give --yes to have it done")
    return input("Do it? [y/N] ").strip().lower() in ("y", "yes")


def _serve(service: Client, found: _Found, options: argparse.Namespace) -> None:
    automation = found.library.automation.model_copy(update={"watch": True, "new_files": NewFiles.AT_ONCE})
    service.libraries.change(found.library.slug, LibraryChange(automation=automation))
    if found.server is None:
        return
    place = _rules_file(found, options)
    try:
        place.write_bytes(service.serving.rules(found.library.slug, found.server))
    except OSError as error:
        raise WrongCommand(f"{place}: {error.strerror or error}") from None
    _say(f"Rules for {found.server} are in {place}: {_PLACES[found.server]}.")
    if not options.yes:
        input("Include them, let the server read them, then press Return. ")


# -- what came of it -----------------------------------------------------------------------------------


def _checked(service: Client, found: _Found) -> AskReport | None:
    """Whether browsers get what they should, by real requests."""
    parts = urlsplit(found.page)
    asked = service.serving.ask(found.library.slug, AskRequest(page=parts.path or "/"))
    if not asked.rows:
        _say(Text("No picture of the library was found on the page.", QUIET))
        return None
    wrong = [(row, got) for row in asked.rows for got in row.got if got.fault is not None]
    if not wrong:
        _say(f"Each browser gets the lightest form it can show, of {len(asked.rows):,} pictures on the page.")
        return asked
    row, got = wrong[0]
    _say(
        Text(
            f"! {len(wrong):,} answers are not as they should be, such as {plain(row.path)}: {got.fault}",
            "yellow",
        ),
        "  Are the rules included? Ask again with plumcrate ask "
        f"{found.library.slug} --page {parts.path or '/'}",
    )
    return asked


def _page_lines(before: Weighing | None, after: Weighing | None) -> Sequence[RenderableType]:
    was, now = (each.reading(Device.PHONE) if each else None for each in (before, after))
    if was is None or now is None:
        return []
    rows = [
        (
            "all of it",
            size(round(was.bytes.median)),
            size(round(now.bytes.median)),
            saved(round(was.bytes.median), round(now.bytes.median)),
        ),
        (
            "its pictures",
            size(was.of_kind("pictures")),
            size(now.of_kind("pictures")),
            saved(was.of_kind("pictures"), now.of_kind("pictures")),
        ),
    ]
    if was.lcp is not None and now.lcp is not None:
        rows.append(("largest paint", f"{was.lcp.median:.1f} s", f"{now.lcp.median:.1f} s", ""))
    return [
        table(
            (before.address if before else "", "before", "now", "saved"),
            rows,
            right=("before", "now", "saved"),
        )
    ]


def _next_lines(found: _Found) -> list[RenderableType]:
    slug = found.library.slug
    return [
        Text(f"{found.library.name} is light, and stays so.", LEAF),
        Text(
            f"What was saved: plumcrate savings {slug}. All of it back: plumcrate restore {slug} --all", QUIET
        ),
    ]


def _say(*lines: RenderableType) -> None:
    for line in lines:
        console.print(line, soft_wrap=True)
