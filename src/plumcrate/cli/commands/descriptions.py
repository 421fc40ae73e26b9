"""descriptions, describe, describe-many, words: what pictures say to those who do not see them."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

from rich.console import RenderableType
from rich.text import Text

from plumcrate.cli.look import QUIET
from plumcrate.client import Client
from plumcrate.contract.descriptions import (
    Accepting,
    BulkDeed,
    BulkRequest,
    BulkResult,
    ChangedText,
    Description,
    DescriptionFilter,
    DescriptionRule,
    DescriptionsSummary,
    Filling,
    ImportFault,
    ImportResult,
    Marking,
    Replacing,
    TextField,
    Texts,
    TextSource,
)
from plumcrate.contract.jobs import Job, JobState, WordsReport

from .common import CommandResult, Commands, WrongCommand, client, console, table
from .pictures import find

_XLIFF = (".xlf", ".xliff")
_SHOWN = 60


def add_commands(commands: Commands) -> None:
    listing = commands.add("descriptions")
    listing.add_argument("library")
    _add_which(listing)
    listing.add_argument("--limit", type=int, default=30, metavar="N", help="at most so many (default 30)")
    listing.add_argument("--changes", action="store_true", help="list the latest changes")
    listing.add_argument("--undo", type=int, metavar="N", help="undo change N")
    listing.set_defaults(command=_list)

    describe = commands.add("describe")
    describe.add_argument("library")
    describe.add_argument("picture", help="its path in the library, or its number")
    describe.add_argument("--language", default="en", metavar="TAG", help="such as en or de-CH (default en)")
    for field in TextField:
        describe.add_argument(f"--{field}", metavar="TEXT")
    for word, value in (("decorative", True), ("not-decorative", False)):
        describe.add_argument(
            f"--{word}", dest="decorative", action="store_const", const=value, help="say that it is, or not"
        )
    describe.set_defaults(command=_describe)

    many = commands.add("describe-many")
    many.add_argument("library")
    _add_which(many)
    deeds = many.add_mutually_exclusive_group(required=True)
    deeds.add_argument(
        "--accept",
        metavar="SOURCES",
        help="take suggestions: names of sources with commas between, the best first; 'describe' shows them",
    )
    deeds.add_argument("--find", metavar="TEXT", help="replace this; with --by")
    deeds.add_argument(
        "--fill",
        metavar="PATTERN",
        help="such as '{name}, {place}'; also {title}, {caption}, {credit}, {folder}, {n}",
    )
    deeds.add_argument("--decorative", choices=("yes", "no"), help="say that they are, or are not")
    many.add_argument("--by", default="", metavar="TEXT", help="what stands in place of what is found")
    many.add_argument("--match-case", action="store_true")
    many.add_argument("--whole-words", action="store_true")
    many.add_argument("--field", choices=[str(field) for field in TextField], default="alternative")
    many.add_argument("--over", action="store_true", help="also where there is a text already")
    many.add_argument("--save", action="store_true", help="do it; without this it is only shown")
    many.set_defaults(command=_describe_many)

    words = commands.add("words")
    words.add_argument("library")
    words.add_argument("--language", default="en", metavar="TAG")
    words.add_argument("--read", action="store_true", help="read what the pictures' own metadata says")
    words.add_argument(
        "--terms", type=Path, metavar="FILE", help="take in search terms: CSV with term, count"
    )
    words.add_argument("--out", type=Path, metavar="FILE", help="write all descriptions: .csv, or .xlf")
    words.add_argument("--into", metavar="TAG", help="the language that .xlf is to be translated into")
    words.add_argument("--in", dest="file", type=Path, metavar="FILE", help="take in descriptions")
    words.add_argument("--clear", action="store_true", help="an empty cell empties the text")
    words.add_argument("--save", action="store_true", help="take in what --in shows")
    words.set_defaults(command=_words)


def _add_which(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--language", default="en", metavar="TAG", help="such as en or de-CH (default en)")
    which = parser.add_argument_group("which pictures", "all that is given must fit")
    rules = [str(rule) for rule in DescriptionRule]
    which.add_argument("--wanting", action="append", choices=rules, metavar="RULE", help=", ".join(rules))
    which.add_argument("--folder", help="only this folder and what is under it")
    which.add_argument("--search", metavar="TEXT", help="paths or texts that contain this")
    which.add_argument("--page", type=int, dest="page_id", metavar="N", help="shown on this weighed page")
    which.add_argument("--used", action="store_true", default=None, help="shown on any weighed page")
    which.add_argument("--unused", dest="used", action="store_false", help="shown on none")


def _which(options: argparse.Namespace) -> DescriptionFilter:
    names = ("wanting", "folder", "search", "page_id", "used")
    given = {name: getattr(options, name) for name in names if getattr(options, name) is not None}
    return DescriptionFilter.model_validate(given)


def _list(options: argparse.Namespace) -> CommandResult:
    library = options.library
    with client() as service:
        if options.undo is not None:
            undone = service.descriptions.undo(library, options.undo)
            kept = f"; {undone.kept:,} were changed again since and stay" if undone.kept else ""
            return CommandResult(undone, [f"{undone.undone:,} descriptions are as they were before{kept}."])
        if options.changes:
            changes = service.descriptions.changes(library)
            rows = [
                (
                    str(one.id),
                    f"{one.at:%Y-%m-%d %H:%M}",
                    one.by,
                    one.language,
                    f"{one.pictures:,}",
                    one.what + (" (undone)" if one.undone_at else ""),
                )
                for one in changes
            ]
            columns = ("number", "at", "by", "language", "pictures", "what")
            return CommandResult(changes, [table(columns, rows, right=("number", "pictures"))])
        told = service.descriptions.summary(library, language=options.language)
        which = _which(options).model_dump(mode="json", exclude_defaults=True)
        limit = max(1, min(options.limit, 100))
        page = service.descriptions.page(library, language=options.language, limit=limit, **which)
    lines: list[RenderableType] = [_summed(told)]
    if page.rows:
        lines.append(table(("number", "picture", "alternative text", "wanting"), map(_row, page.rows)))
    lines.append(f"{len(page.rows):,} of {page.total:,} pictures.")
    return CommandResult(page, lines)


def _summed(told: DescriptionsSummary) -> str:
    wanting = ", ".join(f"{count:,} {rule}" for rule, count in told.wanting.items() if count)
    pages = sum(page.without for page in told.pages)
    lines = [
        f"Of {told.pictures:,} pictures {told.described:,} are described in {told.language}, "
        f"{told.decorative:,} are decorative.",
        f"Wanting: {wanting or 'nothing'}.",
    ]
    if told.pages:
        lines.append(f"{len(told.pages):,} weighed pages show {pages:,} pictures without an alt attribute.")
    return "\n".join(lines)


def _row(one: Description) -> tuple[str, str, str | Text, str]:
    text = "(decorative)" if one.decorative else one.alternative
    faults = ", ".join(fault.rule for fault in one.faults)
    return str(one.picture_id), one.path, text or Text("–", style=QUIET), faults


def _describe(options: argparse.Namespace) -> CommandResult:
    with client() as service:
        number = find(service, options.library, options.picture)
        now = _described(service, number, options.language)
        given = {field: getattr(options, field) for field in (*TextField, "decorative")}
        said = {name: value for name, value in given.items() if value is not None}
        if said:
            names = Texts.model_fields.keys()
            texts = {name: getattr(now, name) for name in names} | said
            if said.get("decorative"):
                texts["alternative"] = ""
            elif said.get("alternative"):
                texts["decorative"] = False
            after = Texts.model_validate(texts)
            now = service.descriptions.save(number, options.language, after, based_on=now.version)
    lines: list[RenderableType] = [f"{now.path}, {now.language}"]
    fields = [(str(field), getattr(now, field)) for field in TextField]
    lines.append(table(("", ""), [(name, text or Text("–", style=QUIET)) for name, text in fields]))
    if now.decorative:
        lines.append("It is decorative: whoever does not see it passes it over.")
    lines += [Text(f"{fault.rule}: {fault.text}", "yellow") for fault in now.faults]
    suggestions = [(one.field, one.source, one.text) for one in now.suggestions]
    if suggestions:
        lines.append(table(("could be", "as says", ""), suggestions))
    lines += [f"On {use.address}: {_says(use.alternative)}" for use in now.uses]
    return CommandResult(now, lines)


def _says(alternative: str | None) -> str:
    if alternative is None:
        return "no alt attribute"
    return f"“{alternative}”" if alternative else "an empty alt: decorative"


def _described(service: Client, number: int, language: str) -> Description:
    known = {one.language.lower(): one for one in service.descriptions.of_picture(number)}
    if language.lower() not in known:
        raise WrongCommand(f"the library has no language {language}; it has {', '.join(known)}")
    return known[language.lower()]


def _describe_many(options: argparse.Namespace) -> CommandResult:
    request = BulkRequest(
        language=options.language, which=_which(options), deed=_deed(options), preview=not options.save
    )
    with client() as service:
        result = service.descriptions.change(options.library, request)
    done = "were" if options.save else "would be"
    lines: list[RenderableType] = [
        f"{result.changed:,} descriptions {done} changed, {result.unchanged:,} stay as they are.",
        *_changed(result),
    ]
    if result.change is not None:
        lines.append(f"To undo it: plumcrate descriptions {options.library} --undo {result.change}")
    elif not options.save and result.changed:
        lines.append("Nothing was saved: add --save.")
    return CommandResult(result, lines)


def _deed(options: argparse.Namespace) -> BulkDeed:
    field, only_empty = TextField(options.field), not options.over
    if options.accept is not None:
        sources = [part.strip() for part in options.accept.split(",") if part.strip()]
        unknown = [source for source in sources if source not in list(TextSource)]
        if unknown or not sources:
            raise WrongCommand(f"there is no source {', '.join(unknown) or 'named'}")
        found = [TextSource(source) for source in sources]
        return Accepting(do="accept", field=field, sources=found, only_empty=only_empty)
    if options.find is not None:
        return Replacing(
            do="replace",
            field=field,
            find=options.find,
            replacement=options.by,
            match_case=options.match_case,
            whole_words=options.whole_words,
        )
    if options.fill is not None:
        return Filling(do="fill", field=field, pattern=options.fill, only_empty=only_empty)
    return Marking(do="mark", decorative=options.decorative == "yes")


def _changed(result: BulkResult | ImportResult) -> list[RenderableType]:
    if not result.examples:
        return []
    return [table(("picture", "text", "before", "after"), map(_before_and_after, result.examples[:12]))]


def _before_and_after(one: ChangedText) -> tuple[str, str, str, str]:
    return one.path, str(one.field), one.before[:_SHOWN], one.after[:_SHOWN]


def _words(options: argparse.Namespace) -> CommandResult:
    library = options.library
    with client() as service:
        if options.read:
            with console.status(f"Reading what the pictures of {library} say …"):
                job = service.jobs.wait(service.jobs.read_words(library).id)
            return CommandResult(job, [_read(job)], code=int(job.state is not JobState.FINISHED))
        if options.terms is not None:
            taken = service.descriptions.put_terms(library, _bytes_of(options.terms))
            lines = [f"{taken.terms:,} search terms are kept, {taken.refused:,} lines were refused."]
            return CommandResult(taken, [*lines, *_faults(taken.faults)])
        if options.file is not None:
            return _taken(service, options)
        if options.out is not None:
            return _written(service, options)
        told = service.descriptions.summary(library, language=options.language)
    return CommandResult(told, [_summed(told), f"The metadata of {told.read:,} was read (--read)."])


def _read(job: Job) -> RenderableType:
    report = job.words or WordsReport()
    if job.state is not JobState.FINISHED:
        return Text(f"Reading has {job.state}" + (f": {job.reason}" if job.reason else "."), "yellow")
    return (
        f"{report.looked_at:,} of {report.pictures:,} pictures were read now: {report.with_words:,} say "
        f"something of themselves, {report.unreadable:,} could not be read."
    )


def _written(service: Client, options: argparse.Namespace) -> CommandResult:
    out: Path = options.out
    if out.suffix.lower() in _XLIFF:
        if not options.into:
            raise WrongCommand("say with --into TAG which language it is to be translated into")
        data = service.descriptions.xliff(options.library, options.language, options.into)
    else:
        data = service.descriptions.csv(options.library, language=options.language)
    if str(out) == "-":
        sys.stdout.buffer.write(data)
        return CommandResult(None)
    try:
        out.write_bytes(data)
    except OSError as error:
        raise WrongCommand(f"{out} cannot be written: {error.strerror}") from None
    return CommandResult({"file": str(out), "bytes": len(data)}, [f"Written: {out}"])


def _taken(service: Client, options: argparse.Namespace) -> CommandResult:
    file: Path = options.file
    data, preview = _bytes_of(file), not options.save
    if file.suffix.lower() in _XLIFF:
        result = service.descriptions.put_xliff(options.library, data, preview=preview)
    else:
        result = service.descriptions.put_csv(
            options.library, data, language=options.language, preview=preview, clear=options.clear
        )
    done = "would be" if preview else "were"
    lines: list[RenderableType] = [
        f"Of {result.rows:,} rows {result.changed:,} descriptions {done} changed, {result.unchanged:,} say "
        f"what is there already, {result.refused:,} rows are refused.",
        *_faults(result.faults),
        *(Text(note, "yellow") for note in result.notes),
        *_changed(result),
    ]
    lines += [f"To undo it: plumcrate descriptions {options.library} --undo {one}" for one in result.changes]
    if preview and result.changed:
        lines.append("Nothing was saved: add --save.")
    return CommandResult(result, lines, code=int(bool(result.refused and not result.changed)))


def _faults(faults: list[ImportFault]) -> list[RenderableType]:
    return [f"line {fault.line}: {fault.text}" for fault in faults]


def _bytes_of(path: Path) -> bytes:
    try:
        return path.read_bytes()
    except OSError as error:
        raise WrongCommand(f"{path} cannot be read: {error.strerror}") from None
