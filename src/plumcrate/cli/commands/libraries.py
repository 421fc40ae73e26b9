"""connect, libraries, survey, map, savings."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

from rich.console import RenderableType
from rich.text import Text

from plumcrate.cli.look import QUIET, slat
from plumcrate.contract.common import Copies, CopyFormat, Level
from plumcrate.contract.jobs import Job, JobState, ResemblanceReport, SurveyReport
from plumcrate.contract.libraries import Library, LibraryRequest
from plumcrate.contract.mapping import FolderProposal, Mapping, ProposalAnswer
from plumcrate.contract.recipes import MetadataKind
from plumcrate.contract.savings import Savings, Slat
from plumcrate.words import saved, size

from .common import CommandResult, Commands, WrongCommand, client, console, table


def add_commands(commands: Commands) -> None:
    connect = commands.add("connect")
    connect.add_argument("folder", help="the folder, as the service's machine sees it")
    connect.add_argument("--name", help="the library's name; by default the folder's")
    connect.add_argument("--slug", help="the short name used in commands")
    connect.add_argument("--level", choices=[str(level) for level in Level], default="everyday")
    connect.add_argument("--copies", type=formats, metavar="FORMATS", help=COPIES_HELP)
    connect.add_argument("--metadata", type=kinds, metavar="KINDS", help=METADATA_HELP)
    connect.add_argument(
        "--pattern", action="append", help="a name pattern of derived sizes; may be given several times"
    )
    connect.set_defaults(command=_connect)

    listing = commands.add("libraries", rows=Library)
    listing.set_defaults(command=_libraries)

    survey = commands.add("survey")
    survey.add_argument("library")
    survey.add_argument("--no-wait", action="store_true", help="start it and return at once")
    survey.set_defaults(command=_survey)

    mapping = commands.add("map")
    mapping.add_argument("library")
    mapping.add_argument("file", nargs="?", help="JSON lines with path and original; - reads standard input")
    mapping.add_argument("--anew", action="store_true", help="forget first what was said before")
    mapping.set_defaults(command=_map)

    renditions = commands.add("renditions")
    renditions.add_argument("library")
    renditions.add_argument("--look", action="store_true", help="compare all pictures first; touches nothing")
    renditions.add_argument(
        "--accept", action="append", metavar="FOLDER", help="what is proposed for a folder are renditions"
    )
    renditions.add_argument(
        "--dismiss", action="append", metavar="FOLDER", help="what is proposed for a folder are no renditions"
    )
    renditions.set_defaults(command=_renditions)

    savings = commands.add("savings")
    savings.add_argument("library")
    savings.set_defaults(command=_savings)


COPIES_HELP = f"formats of copies, such as webp,avif, or none; known: {', '.join(CopyFormat)}"
METADATA_HELP = (
    "what files go on saying about themselves: all, nothing, or some of "
    f"{', '.join(MetadataKind)} (default: rights)"
)


def formats(text: str) -> Copies:
    """Formats of copies as they are given on the command line."""
    try:
        return [] if text == "none" else [CopyFormat(part.strip()) for part in text.split(",")]
    except ValueError:
        raise argparse.ArgumentTypeError(f"{text!r} is none of {', '.join(CopyFormat)}, none") from None


def kinds(text: str) -> list[MetadataKind]:
    """Kinds of metadata as they are given on the command line."""
    if text in ("all", "nothing"):
        return list(MetadataKind) if text == "all" else []
    try:
        return [MetadataKind(part.strip()) for part in text.split(",")]
    except ValueError:
        raise argparse.ArgumentTypeError(
            f"{text!r} is none of all, nothing, {', '.join(MetadataKind)}"
        ) from None


def _map(options: argparse.Namespace) -> CommandResult:
    with client() as service:
        if options.file is None:
            known = service.libraries.mapping(options.library)
            return CommandResult(known, [_mapped(known)])
        taken = service.libraries.put_mapping(options.library, _read(options.file), anew=options.anew)
    lines = [f"{taken.taken:,} lines were taken, {taken.refused:,} refused.", *taken.faults, _mapped(taken)]
    return CommandResult(taken, lines, code=1 if taken.refused and not taken.taken else 0)


def _renditions(options: argparse.Namespace) -> CommandResult:
    library, lines, code = options.library, list[RenderableType](), 0
    with client() as service:
        if options.look:
            with console.status(f"Comparing the pictures of {library} …"):
                job = service.jobs.wait(service.jobs.compare_renditions(library).id)
            lines.append(_looked(job))
            code = int(job.state is not JobState.FINISHED)
        for accept, folders in ((True, options.accept), (False, options.dismiss)):
            for folder in folders or ():
                service.libraries.answer_proposal(library, ProposalAnswer(folder=_top(folder), accept=accept))
                lines.append(f"{folder}: {'its proposals are renditions now' if accept else 'dismissed'}.")
        known = service.libraries.proposals(library)
    if known:
        rows = [(one.folder or ".", f"{one.renditions:,}", f"{one.others:,}", _example(one)) for one in known]
        lines.append(
            table(("folder", "renditions", "others", "such as"), rows, right=("renditions", "others"))
        )
        lines.append(f"Are they? plumcrate renditions {library} --accept FOLDER, or --dismiss FOLDER")
    else:
        lines.append("Nothing is proposed." + ("" if options.look else " --look compares all pictures."))
    return CommandResult(known, lines, code)


def _top(folder: str) -> str:
    """A folder as it is on record: the top has no name there."""
    return "" if folder in (".", "./") else folder.strip("/")


def _looked(job: Job) -> RenderableType:
    report = job.resemblance or ResemblanceReport()
    if job.state is not JobState.FINISHED:
        return Text(f"The look has {job.state}" + (f": {job.reason}" if job.reason else "."), "yellow")
    return (
        f"{report.looked_at:,} files that count as originals were compared: {report.found:,} show the same "
        f"as a larger one, {report.plain:,} show too little to tell, {report.unreadable:,} could not be read."
    )


def _example(proposal: FolderProposal) -> str:
    first = proposal.examples[0]
    return f"{first.path.rpartition('/')[2]} of {first.original}"


def _mapped(known: Mapping) -> str:
    return f"{known.renditions:,} renditions are on record; {known.found:,} stand here with their original."


def _read(name: str) -> bytes:
    if name == "-":
        return sys.stdin.buffer.read()
    try:
        return Path(name).read_bytes()
    except OSError as error:
        raise WrongCommand(f"{name}: {error.strerror}") from None


def _connect(options: argparse.Namespace) -> CommandResult:
    request = LibraryRequest(
        name=options.name or Path(options.folder).name or options.folder,
        root=str(Path(options.folder).absolute()),
        slug=options.slug,
        level=Level(options.level),
        patterns=options.pattern,
    )
    if options.copies is not None:
        request.copies = options.copies
    if options.metadata is not None:
        request.metadata = options.metadata
    with client() as service:
        library = service.libraries.connect(request)
    kept = ", ".join(request.metadata) or "nothing"
    return CommandResult(
        library,
        [
            f"Connected {library.root} as {library.slug}.",
            f"Metadata that files keep: {kept}. Change it with --metadata, or in the recipe.",
            f"Next: plumcrate survey {library.slug}",
        ],
    )


def _libraries(options: argparse.Namespace) -> CommandResult:
    with client() as service:
        libraries = service.libraries.all()
    if not libraries:
        return CommandResult(libraries, ["No library is connected yet. Next: plumcrate connect FOLDER"])
    rows = [
        (
            library.slug,
            f"{library.pictures:,}",
            f"{library.files:,}",
            f"{library.files_new:,}",
            size(library.bytes_before),
            size(library.bytes_now),
            saved(library.bytes_before, library.bytes_now),
            slat(library.bytes_before, library.bytes_now, 20),
        )
        for library in libraries
    ]
    columns = ("library", "pictures", "files", "new files", "before", "now", "saved", "")
    return CommandResult(libraries, [table(columns, rows, right=columns[1:-1])])


def _survey(options: argparse.Namespace) -> CommandResult:
    with client() as service:
        job = service.jobs.survey(options.library)
        if options.no_wait:
            return CommandResult(job, [f"Survey {job.id} has started."])
        with console.status(f"Looking through {options.library} …"):
            job = service.jobs.wait(job.id)
    return CommandResult(job, _survey_lines(job), int(job.state is not JobState.FINISHED))


def _survey_lines(job: Job) -> list[RenderableType]:
    report = job.survey or SurveyReport()
    if job.state is not JobState.FINISHED:
        return [Text(f"The survey has {job.state}" + (f": {job.reason}" if job.reason else "."), "yellow")]
    said = (
        f"{report.pictures:,} pictures in {report.files_seen:,} files: {report.files_new:,} new, "
        f"{report.files_changed:,} changed, {report.files_gone:,} gone, "
        f"{report.files_unreadable:,} unreadable."
    )
    if report.copies:
        said += f" {report.copies:,} copies of ours stand beside them."
    if report.renditions:
        named = report.renditions - report.renditions_told
        said += (
            f" {report.renditions:,} are renditions of others: {report.renditions_told:,} by the site, "
            f"{named:,} by their names."
        )
    return [said, *(Text(f"  {note}", QUIET) for note in report.notes)]


def _savings(options: argparse.Namespace) -> CommandResult:
    with client() as service:
        savings = service.libraries.savings(options.library)
    return CommandResult(savings, _savings_lines(savings))


def _savings_lines(savings: Savings) -> list[RenderableType]:
    total = savings.total
    lines: list[RenderableType] = [
        f"{savings.pictures:,} pictures, {total.files:,} files. The files weighed {size(total.bytes_before)} "
        f"and weigh {size(total.bytes_now)} now ({saved(total.bytes_before, total.bytes_now)}).",
        f"A modern browser fetches {size(total.bytes_lightest)} of them "
        f"({saved(total.bytes_before, total.bytes_lightest)}), with {savings.copies:,} copies "
        f"({size(savings.bytes_copies)} on disk). Backups hold {size(savings.bytes_backups)}.",
    ]
    if savings.sent.requests:
        sent = savings.sent
        lines.append(
            f"In 30 days visitors were sent {size(sent.bytes)} of them instead of {size(sent.bytes_before)} "
            f"({saved(sent.bytes_before, sent.bytes)})."
        )
    for title, slats in (
        ("by format", savings.by_format),
        ("by kind of file", savings.by_role),
        ("by folder", savings.by_folder),
        ("by month of treatment", savings.by_month),
    ):
        if slats:
            lines += ["", _slats(title, slats)]
    return lines


def _slats(title: str, slats: list[Slat]) -> RenderableType:
    scale = max(group.bytes_before for group in slats)
    columns = (title, "files", "before", "now", "saved", "lightest", " ")
    rows = [
        (
            group.name or "top folder",
            f"{group.files:,}",
            size(group.bytes_before),
            size(group.bytes_now),
            saved(group.bytes_before, group.bytes_now),
            size(group.bytes_lightest),
            slat(group.bytes_before, group.bytes_now, 28, scale),
        )
        for group in slats
    ]
    return table(columns, rows, right=columns[1:-1])
