"""list, show."""

from __future__ import annotations

import argparse
from enum import StrEnum

from rich.console import RenderableType
from rich.text import Text

from plumcrate.cli.look import points, slat
from plumcrate.client import Client
from plumcrate.contract.pictures import (
    Copied,
    File,
    FileState,
    OwnRule,
    Picture,
    PictureDetail,
    PictureFilter,
    PictureSort,
    SavingClass,
    ScoreClass,
    WeightClass,
    WorstPlace,
)
from plumcrate.words import saved, size

from .common import CommandResult, Commands, WrongCommand, client, table


def add_commands(commands: Commands) -> None:
    listing = commands.add("list", rows=Picture)
    listing.add_argument("library")
    listing.add_argument("--folder", help="only this folder and what is under it")
    add_filter(listing)
    listing.add_argument(
        "--sort",
        choices=[str(sort) for sort in PictureSort],
        default="path",
        help="worst: those first whose worst place lost most",
    )
    listing.add_argument("--limit", type=int, default=40, metavar="N", help="at most so many (default 40)")
    listing.set_defaults(command=_list)

    show = commands.add("show")
    show.add_argument("library")
    show.add_argument("picture", help="its path in the library, or its number")
    show.set_defaults(command=_show)


#: What may be chosen by, beside folder and path.
_FACETS: dict[str, type[StrEnum]] = {
    "state": FileState,
    "weight": WeightClass,
    "saving": SavingClass,
    "score": ScoreClass,
    "copied": Copied,
    "rule": OwnRule,
}


def add_filter(parser: argparse.ArgumentParser) -> None:
    """Options that choose pictures; each may be given several times."""
    which = parser.add_argument_group(
        "which pictures", "all that is given must fit; of one option, any value"
    )
    which.add_argument("--search", metavar="TEXT", help="paths that contain this")
    which.add_argument("--format", action="append", metavar="FORMAT", help="such as jpeg")
    for name, values in _FACETS.items():
        which.add_argument(f"--{name}", action="append", choices=[str(value) for value in values])


def picture_filter(options: argparse.Namespace) -> PictureFilter:
    """What :func:`add_filter` was given, with the folder."""
    given = {name: getattr(options, name) for name in (*_FACETS, "search", "format", "folder")}
    return PictureFilter.model_validate({name: value for name, value in given.items() if value})


def find(service: Client, library: str, wanted: str) -> int:
    """The number of a picture given by number, or by the path of it or of a file of it. Raises
    WrongCommand."""
    if wanted.isdigit():
        return int(wanted)
    for picture in service.pictures.page(library, path=wanted).rows:
        return picture.id
    raise WrongCommand(f"{library} has no picture {wanted}")


def _list(options: argparse.Namespace) -> CommandResult:
    chosen = picture_filter(options).model_dump(mode="json", exclude_defaults=True) | {"sort": options.sort}
    with client() as service:
        limit = max(1, min(options.limit, 500))
        page = service.pictures.page(options.library, **chosen, limit=limit)
        every = None
        if options.rows_to is not None:
            every = list(service.pictures.each(options.library, **chosen, limit=500))
    rows = [
        (
            str(picture.id),
            picture.path,
            picture.state,
            str(picture.files),
            size(picture.bytes_before),
            size(picture.bytes_now),
            saved(picture.bytes_before, picture.bytes_now),
            points(picture.score),
            points(picture.worst),
            slat(picture.bytes_before, picture.bytes_now, 16),
        )
        for picture in page.rows
    ]
    columns = ("number", "picture", "state", "files", "before", "now", "saved", "score", "worst", "")
    figures = ("number", "files", "before", "now", "saved", "score", "worst")
    said = f"{len(page.rows):,} of {page.total:,} pictures; sizes are sums over each picture's files."
    return CommandResult(page, [table(columns, rows, right=figures), said], rows=every)


def _show(options: argparse.Namespace) -> CommandResult:
    with client() as service:
        picture = service.pictures.get(find(service, options.library, options.picture))
    return CommandResult(picture, _lines(picture))


def _lines(picture: PictureDetail) -> list[RenderableType]:
    lines: list[RenderableType] = [
        Text(f"{picture.path}  (number {picture.id}, {picture.state})", style="bold")
    ]
    if picture.reason:
        lines.append(Text(f"  {picture.reason}", style="yellow"))
    rows = [row for file in picture.all_files for row in _file_rows(file)]
    columns = ("file", "pixels", "before", "now", "saved", "score", "worst place", "how")
    figures = ("pixels", "before", "now", "saved", "score")
    lines.append(table(columns, rows, right=figures))
    if picture.history:
        history = [
            (
                f"{entry.at.astimezone():%Y-%m-%d %H:%M}",
                entry.action,
                entry.path,
                size(entry.bytes_before),
                size(entry.bytes_after),
                f"run {entry.run_id}" if entry.run_id else "",
            )
            for entry in picture.history
        ]
        headings = ("when", "what", "file", "from", "to", "by")
        lines += ["", table(headings, history, right=("from", "to"))]
    return lines


def _file_rows(file: File) -> list[tuple[str, ...]]:
    rows: list[tuple[str, ...]] = [
        (
            file.path,
            f"{file.width} x {file.height}",
            size(file.size_before),
            size(file.size_now),
            saved(file.size_before, file.size_now),
            points(file.score),
            _place(file.worst_place),
            file.how or file.reason or "",
        )
    ]
    rows.extend(
        (
            f"  {derived.format} {derived.purpose}",
            "",
            "",
            size(derived.size),
            saved(file.size_before, derived.size),
            points(derived.score),
            _place(derived.worst_place),
            derived.how,
        )
        for derived in file.derived
    )
    return rows


def _place(worst_place: WorstPlace | None) -> str:
    """How much a result scores at its worst place, and where from the left and from the top that is."""
    return (
        ""
        if worst_place is None
        else f"{worst_place.score:.0f} at {worst_place.left:.0%}, {worst_place.top:.0%}"
    )
