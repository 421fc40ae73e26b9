"""connect, libraries, survey, savings."""

from __future__ import annotations

import argparse
from pathlib import Path

from plumcrate.cli.look import saved, size, slat
from plumcrate.contract import Level, LibraryRequest, Savings, Slat, Survey, SurveyState

from .common import Commands, add, client, console, print_json, table


def add_commands(commands: Commands[argparse.ArgumentParser]) -> None:
    connect = add(commands, "connect", "connect a folder tree as a library")
    connect.add_argument("folder", help="the folder, as the service's machine sees it")
    connect.add_argument("--name", help="the library's name; by default the folder's")
    connect.add_argument("--slug", help="the short name used in commands")
    connect.add_argument("--level", choices=[str(level) for level in Level], default="everyday")
    connect.add_argument("--no-webp", action="store_true", help="write no WebP copies")
    connect.add_argument("--no-avif", action="store_true", help="write no AVIF copies")
    connect.add_argument(
        "--pattern", action="append", help="a name pattern of derived sizes; may be given several times"
    )
    connect.set_defaults(command=_connect)

    listing = add(commands, "libraries", "list the connected libraries")
    listing.set_defaults(command=_libraries)

    survey = add(commands, "survey", "look through a library; touches nothing")
    survey.add_argument("library")
    survey.add_argument("--no-wait", action="store_true", help="start it and return at once")
    survey.set_defaults(command=_survey)

    savings = add(commands, "savings", "show what was saved")
    savings.add_argument("library")
    savings.set_defaults(command=_savings)


def _connect(options: argparse.Namespace) -> int:
    request = LibraryRequest(
        name=options.name or Path(options.folder).name or options.folder,
        root=str(Path(options.folder).absolute()),
        slug=options.slug,
        level=Level(options.level),
        webp=not options.no_webp,
        avif=not options.no_avif,
        patterns=options.pattern,
    )
    with client() as service:
        library = service.connect(request)
    if options.json:
        print_json(library)
        return 0
    console.print(f"Connected {library.root} as {library.slug}. Next: plumcrate survey {library.slug}")
    return 0


def _libraries(options: argparse.Namespace) -> int:
    with client() as service:
        found = service.libraries()
    if options.json:
        print_json(found)
        return 0
    if not found:
        console.print("No library is connected yet. Next: plumcrate connect FOLDER")
        return 0
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
        for library in found
    ]
    columns = ("library", "pictures", "files", "new files", "before", "now", "saved", "")
    console.print(table(columns, rows, right=columns[1:-1]))
    return 0


def _survey(options: argparse.Namespace) -> int:
    with client() as service:
        survey = service.start_survey(options.library)
        if not options.no_wait:
            if options.json:
                survey = service.wait_for_survey(survey.id)
            else:
                with console.status(f"Looking through {options.library} …"):
                    survey = service.wait_for_survey(survey.id)
    if options.json:
        print_json(survey)
    else:
        _print_survey(survey)
    return 1 if survey.state is SurveyState.FAILED else 0


def _print_survey(survey: Survey) -> None:
    if survey.state is SurveyState.FAILED:
        console.print(f"The survey failed: {survey.reason}", style="yellow")
        return
    if survey.state is not SurveyState.FINISHED:
        console.print(f"Survey {survey.id} has started.")
        return
    console.print(
        f"{survey.pictures:,} pictures in {survey.files_seen:,} files: {survey.files_new:,} new, "
        f"{survey.files_changed:,} changed, {survey.files_gone:,} gone, "
        f"{survey.files_unreadable:,} unreadable."
    )
    for note in survey.notes:
        console.print(f"  {note}", style="bright_black")


def _savings(options: argparse.Namespace) -> int:
    with client() as service:
        savings = service.savings(options.library)
    if options.json:
        print_json(savings)
        return 0
    _print_savings(savings)
    return 0


def _print_savings(savings: Savings) -> None:
    total = savings.total
    console.print(
        f"{savings.pictures:,} pictures, {total.files:,} files. The files weighed {size(total.bytes_before)} "
        f"and weigh {size(total.bytes_now)} now ({saved(total.bytes_before, total.bytes_now)})."
    )
    console.print(
        f"A modern browser fetches {size(total.bytes_lightest)} of them "
        f"({saved(total.bytes_before, total.bytes_lightest)}), with {savings.copies:,} WebP and AVIF copies "
        f"({size(savings.bytes_copies)} on disk). Backups hold {size(savings.bytes_backups)}."
    )
    for title, slats in (
        ("by format", savings.by_format),
        ("by kind of file", savings.by_role),
        ("by folder", savings.by_folder),
        ("by month of treatment", savings.by_month),
    ):
        if slats:
            console.print()
            _print_slats(title, slats)


def _print_slats(title: str, slats: list[Slat]) -> None:
    scale = max(one.bytes_before for one in slats)
    columns = (title, "files", "before", "now", "saved", "lightest", " ")
    rows = [
        (
            one.name or "top folder",
            f"{one.files:,}",
            size(one.bytes_before),
            size(one.bytes_now),
            saved(one.bytes_before, one.bytes_now),
            size(one.bytes_lightest),
            slat(one.bytes_before, one.bytes_now, 28, scale),
        )
        for one in slats
    ]
    console.print(table(columns, rows, right=columns[1:-1]))
