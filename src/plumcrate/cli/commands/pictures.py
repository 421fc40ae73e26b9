"""list, show."""

from __future__ import annotations

import argparse
import sys

from plumcrate.cli.look import points, saved, size, slat
from plumcrate.client import Client
from plumcrate.contract import FileState, PictureDetail, PictureSort

from .common import Commands, add, client, console, print_json, table


def add_commands(commands: Commands[argparse.ArgumentParser]) -> None:
    listing = add(commands, "list", "list a library's pictures")
    listing.add_argument("library")
    listing.add_argument("--state", action="append", choices=[str(state) for state in FileState])
    listing.add_argument("--folder", help="only this folder and what is under it")
    listing.add_argument("--search", help="only paths that contain this")
    listing.add_argument("--format", help="only pictures of this format, such as jpeg")
    listing.add_argument("--sort", choices=[str(sort) for sort in PictureSort], default="path")
    listing.add_argument("--limit", type=int, default=40, metavar="N", help="at most so many (default 40)")
    listing.set_defaults(command=_list)

    show = add(commands, "show", "show one picture, its files and its history")
    show.add_argument("library")
    show.add_argument("picture", help="its path in the library, or its number")
    show.set_defaults(command=_show)


def find(service: Client, library: str, wanted: str) -> int:
    """The number of a picture given by number or path. Ends the command when there is none."""
    if wanted.isdigit():
        return int(wanted)
    for picture in service.pictures(library, search=wanted, limit=500).rows:
        if picture.path == wanted:
            return picture.id
    console.print(f"plumcrate: {library} has no picture {wanted}", style="yellow")
    sys.exit(2)


def _list(options: argparse.Namespace) -> int:
    with client() as service:
        page = service.pictures(
            options.library,
            state=options.state,
            folder=options.folder,
            search=options.search,
            format=options.format,
            sort=options.sort,
            limit=max(1, min(options.limit, 500)),
        )
    if options.json:
        print_json(page)
        return 0
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
            slat(picture.bytes_before, picture.bytes_now, 16),
        )
        for picture in page.rows
    ]
    columns = ("number", "picture", "state", "files", "before", "now", "saved", "score", "")
    console.print(table(columns, rows, right=("number", "files", "before", "now", "saved", "score")))
    console.print(f"{len(page.rows):,} of {page.total:,} pictures; sizes are sums over each picture's files.")
    return 0


def _show(options: argparse.Namespace) -> int:
    with client() as service:
        picture = service.picture(find(service, options.library, options.picture))
    if options.json:
        print_json(picture)
        return 0
    _print_picture(picture)
    return 0


def _print_picture(picture: PictureDetail) -> None:
    console.print(f"{picture.path}  (number {picture.id}, {picture.state})", style="bold")
    if picture.reason:
        console.print(f"  {picture.reason}", style="yellow")
    rows = []
    for file in picture.all_files:
        change = saved(file.size_before, file.size_now)
        rows.append(
            (
                file.path,
                f"{file.width} x {file.height}",
                size(file.size_before),
                size(file.size_now),
                change,
                points(file.score),
                file.how or file.reason or "",
            )
        )
        rows.extend(
            (
                f"  {copy.kind} copy",
                "",
                "",
                size(copy.size),
                saved(file.size_before, copy.size),
                points(copy.score),
                copy.how,
            )
            for copy in file.copies
        )
    columns = ("file", "pixels", "before", "now", "saved", "score", "how")
    console.print(table(columns, rows, right=("pixels", "before", "now", "saved", "score")))
    if picture.history:
        console.print()
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
        console.print(table(headings, history, right=("from", "to")))
