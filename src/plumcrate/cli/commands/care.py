"""doctor, forecast, verify, backups, orphans, rescue, recognise, prune, hand-back, upkeep, upload, hooks."""

from __future__ import annotations

import argparse
import json
from pathlib import Path

from pydantic import ValidationError
from rich.text import Text

from plumcrate.cli.look import CLAY, LEAF, QUIET, plain, saved, size
from plumcrate.client import Client
from plumcrate.contract import (
    Check,
    CheckRequest,
    Forecast,
    ForecastRequest,
    JobState,
    LibraryChange,
    NewFiles,
    PruneRequest,
    PutBackRequest,
    Range,
    RecogniseRequest,
    RunKind,
    RunRequest,
    Upkeep,
)

from .common import Commands, add, client, console, print_json, table
from .runs import follow_run

_SIGNS = {"fine": ("✓", LEAF), "mind": ("!", "yellow"), "broken": ("✗", CLAY)}


def add_commands(commands: Commands[argparse.ArgumentParser]) -> None:
    doctor = add(commands, "doctor", "check the machine: all fine, or what to do")
    doctor.set_defaults(command=_doctor)

    forecast = add(commands, "forecast", "treat a sample in memory and say what a run would save")
    forecast.add_argument("library")
    forecast.add_argument("--seconds", type=float, default=60.0, help="how long to sample (default 60)")
    forecast.set_defaults(command=_forecast)

    verify = add(commands, "verify", "compare library, backups and records byte for byte")
    verify.add_argument("library")
    verify.add_argument("--mend", action="store_true", help="mend what can be mended without a choice")
    verify.set_defaults(command=_verify)

    backups = add(commands, "backups", "show what the backups hold")
    backups.add_argument("library")
    backups.set_defaults(command=_backups)

    orphans = add(commands, "orphans", "list backups whose file was deleted, moved away or overwritten")
    orphans.add_argument("library")
    orphans.add_argument("--from", dest="offset", type=int, default=0, help="skip so many of the latest")
    orphans.set_defaults(command=_orphans)

    rescue = add(commands, "rescue", "put such a backup into the library again")
    rescue.add_argument("library")
    rescue.add_argument("number", type=int, help="its number, as orphans lists it")
    rescue.add_argument("--as", dest="path", help="its path in the library; by default where it was")
    rescue.set_defaults(command=_rescue)

    recognise = add(commands, "recognise", "say that a library's folder is the right one, as it is")
    recognise.add_argument("library")
    recognise.add_argument("--confirm", metavar="LIBRARY", help="the library's short name once more")
    recognise.set_defaults(command=_recognise)

    prune = add(commands, "prune", "delete backups")
    prune.add_argument("library")
    prune.add_argument("--older-than", type=int, metavar="DAYS", help="only those older than this")
    prune.add_argument(
        "--needed-too", action="store_true",
        help="also the only original of a treated file, which can then never be put back",
    )  # fmt: skip
    prune.add_argument(
        "--orphans-too", action="store_true", help="also those whose file was deleted or overwritten"
    )
    prune.add_argument("--confirm", metavar="LIBRARY", help="the library's short name once more")
    prune.set_defaults(command=_prune)

    hand_back = add(commands, "hand-back", "remove all we made and put every original in its place")
    hand_back.add_argument("library")
    hand_back.add_argument("--confirm", metavar="LIBRARY", help="the library's short name once more")
    hand_back.add_argument("--overwrite", action="store_true", help="also files that somebody changed since")
    hand_back.set_defaults(command=_hand_back)

    upkeep = add(commands, "upkeep", "show or change what happens by itself: new files, hours, backups")
    upkeep.add_argument("library")
    upkeep.add_argument(
        "--set", dest="changes", action="append", metavar="NAME=VALUE", default=[],
        help="such as watch=true, new_files=at-once, hours=22:00-06:00",
    )  # fmt: skip
    upkeep.set_defaults(command=_upkeep)

    upload = add(commands, "upload", "put a new picture into a library")
    upload.add_argument("library")
    upload.add_argument("file", type=Path)
    upload.add_argument("--as", dest="path", help="its path in the library; by default its name")
    upload.add_argument("--treat", choices=[str(one) for one in NewFiles], default="at-once")
    upload.set_defaults(command=_upload)

    hook = add(commands, "hook-secret", "make a secret with which a site signs its webhooks")
    hook.add_argument("library")
    hook.set_defaults(command=_hook)


def _doctor(options: argparse.Namespace) -> int:
    with client() as service:
        found = service.machine()
    if options.json:
        print_json(found)
        return int(found.verdict == "broken")
    for line in found.lines:
        sign, style = _SIGNS[line.verdict]
        console.print(Text.assemble((f"{sign} ", style), (line.what, "bold"), f"  {line.detail}"))
        if line.todo:
            console.print(Text(f"    {line.todo}", style=style))
    said = {
        "fine": "Everything is fine.",
        "mind": "It works; mind the lines marked !.",
        "broken": "Something is missing.",
    }
    console.print(said[found.verdict])
    return int(found.verdict == "broken")


def _forecast(options: argparse.Namespace) -> int:
    with client() as service:
        started = service.start_forecast(options.library, ForecastRequest(seconds=options.seconds))
        if options.json:
            print_json(service.wait_for_forecast(started.id))
            return 0
        with console.status(f"Treating a sample of {options.library} in memory …"):
            found = service.wait_for_forecast(started.id)
    return _print_forecast(found)


def _print_forecast(found: Forecast) -> int:
    result = found.result
    if found.state is JobState.FAILED or result is None:
        console.print(f"The forecast failed: {found.reason}", style="yellow")
        return 1
    console.print(
        f"{result.files:,} files of {size(result.bytes_before)} would be treated. "
        f"Looked at {result.sampled_files:,} of them ({size(result.sampled_bytes)}) in "
        f"{result.seconds:.0f} s; nothing was written."
    )
    rows = [
        _range_row("the files themselves", result.bytes_before, result.bytes_after),
        _range_row("what a modern browser fetches", result.bytes_before, result.bytes_lightest),
    ]
    columns = ("", "expected", "saved", "nine times in ten between")
    console.print(table(columns, rows, right=columns[1:3]))
    return 0


def _range_row(name: str, before: int, found: Range) -> tuple[str, ...]:
    return (
        name,
        size(found.expected),
        saved(before, found.expected),
        f"{size(found.low)} and {size(found.high)}",
    )


def _verify(options: argparse.Namespace) -> int:
    with client() as service:
        started = service.start_check(options.library, CheckRequest(mend=options.mend))
        if options.json:
            check = service.wait_for_check(started.id)
        else:
            with console.status(f"Reading {options.library} …"):
                check = service.wait_for_check(started.id)
    if options.json:
        print_json(check)
    else:
        _print_check(check)
    return int(check.state is JobState.FAILED or check.differences > check.mended)


def _print_check(check: Check) -> None:
    if check.state is JobState.FAILED:
        console.print(f"The check failed: {check.reason}", style="yellow")
        return
    console.print(
        f"Read {check.files:,} treated files, {check.copies:,} copies and {check.backups:,} backups: "
        + (
            f"{check.differences:,} differences, {check.mended:,} mended."
            if check.differences
            else "all as recorded."
        )
    )
    for finding in check.findings:
        sign, style = ("✓", LEAF) if finding.mended else ("!", "yellow")
        console.print(Text.assemble((f"  {sign} ", style), finding.path, (f"  {finding.detail}", QUIET)))
    if check.differences > check.mended and not check.mend:
        console.print("Mend what can be mended: plumcrate verify LIBRARY --mend")


def _backups(options: argparse.Namespace) -> int:
    with client() as service:
        found = service.backups(options.library)
    if options.json:
        print_json(found)
        return 0
    free = f", {size(found.bytes_free)} free there" if found.bytes_free is not None else ""
    console.print(f"{found.backups:,} backups, {size(found.bytes)}, in {found.folder}{free}.")
    spare = found.backups - found.needed - found.orphaned
    console.print(
        f"{found.needed:,} of them ({size(found.bytes_needed)}) are the only original of a treated file; "
        f"{found.orphaned:,} ({size(found.bytes_orphaned)}) lost their file; "
        f"{spare:,} ({size(found.bytes - found.bytes_needed - found.bytes_orphaned)}) are not needed."
    )
    return 0


def _orphans(options: argparse.Namespace) -> int:
    with client() as service:
        page = service.orphans(options.library, offset=options.offset)
    if options.json:
        print_json(page)
        return 0
    if not page.rows:
        console.print("No backup has lost its file.")
        return 0
    rows = [(str(row.id), size(row.size), f"{row.created_at:%Y-%m-%d %H:%M}", row.path) for row in page.rows]
    console.print(
        table(("number", "size", "backed up", "where the file was"), rows, right=("number", "size"))
    )
    console.print(f"{len(page.rows):,} of {page.total:,}. Put one back: plumcrate rescue LIBRARY NUMBER")
    return 0


def _rescue(options: argparse.Namespace) -> int:
    with client() as service:
        found = service.rescue(options.library, options.number, PutBackRequest(path=options.path))
    if options.json:
        print_json(found)
        return 0
    console.print(f"{plain(found.path)} is in the library again, {size(found.size)}, as it first was.")
    return 0


def _recognise(options: argparse.Namespace) -> int:
    if options.confirm != options.library:
        return _unconfirmed(f"recognise {options.library}", options.library)
    with client() as service:
        found = service.recognise(options.library, RecogniseRequest(confirm=options.confirm))
    if options.json:
        print_json(found)
        return 0
    mark = "The folder was marked again. " if found.marked else ""
    console.print(
        f"{mark}{found.closed:,} changes that could not be settled were given up; {found.gone:,} files count "
        "as gone. Their originals stay among the backups."
    )
    return 0


def _prune(options: argparse.Namespace) -> int:
    if options.confirm != options.library:
        return _unconfirmed(f"prune {options.library}", options.library)
    request = PruneRequest(
        older_than_days=options.older_than, needed_too=options.needed_too,
        orphans_too=options.orphans_too, confirm=options.confirm,
    )  # fmt: skip
    with client() as service:
        done = service.prune(options.library, request)
    if options.json:
        print_json(done)
        return 0
    console.print(f"Deleted {done.backups:,} backups, {size(done.bytes)}.")
    if done.needed:
        console.print(f"{done.needed:,} of them were the only original of a treated file.", style="yellow")
    if done.left:
        console.print(
            f"{done.left:,} stay: needed by treated files (--needed-too), or of files that were deleted or "
            "overwritten (--orphans-too)."
        )
    return 0


def _hand_back(options: argparse.Namespace) -> int:
    if options.confirm != options.library:
        return _unconfirmed(f"hand-back {options.library}", options.library)
    request = RunRequest(
        library=options.library, kind=RunKind.HAND_BACK, confirm=options.confirm, overwrite=options.overwrite
    )
    with client() as service:
        number = service.start_run(request).id
        code = follow_run(service, number, options.json)
        return code or _print_proof(service, options, number)


def _print_proof(service: Client, options: argparse.Namespace, number: int) -> int:
    proof = service.run(number).proof or {}
    complete = proof.get("verdict") == "complete"
    if not options.json:
        console.print(
            f"{proof.get('originals_identical', 0):,} originals are byte for byte what they were, "
            f"{proof.get('originals_differing', 0):,} differ; "
            f"{proof.get('copies_left', 0):,} files of ours are left. "
            f"The hand-back is {proof.get('verdict')}.",
            style=LEAF if complete else "yellow",
        )
    return 0 if complete else 1


def _unconfirmed(command: str, library: str) -> int:
    console.print(
        f"plumcrate: to be sure, say it once more: plumcrate {command} --confirm {library}", style=CLAY
    )
    return 2


def _upkeep(options: argparse.Namespace) -> int:
    changes: dict[str, object] = {}
    for change in options.changes:
        name, equals, text = change.partition("=")
        if not equals or name not in Upkeep.model_fields:
            console.print(f"plumcrate: there is no setting {name}", style="yellow")
            return 2
        try:
            changes[name] = json.loads(text)
        except json.JSONDecodeError:
            changes[name] = [part for part in text.split(",") if part] if name == "hours" else text
    try:
        request = LibraryChange(upkeep=Upkeep.model_validate(changes)) if changes else None
    except ValidationError as error:
        console.print(f"plumcrate: {error.errors()[0]['msg']}", style="yellow")
        return 2
    with client() as service:
        library = (
            service.change_library(options.library, request) if request else service.library(options.library)
        )
    if options.json:
        print_json(library.upkeep)
        return 0
    said = {True: "yes", False: "no", None: "–"}
    rows = [
        (name, said[value] if value is None or isinstance(value, bool) else ", ".join(value) or "always"
         if isinstance(value, list) else str(value))
        for name, value in library.upkeep.model_dump(mode="json").items()
    ]  # fmt: skip
    console.print(table(("setting", "value"), rows))
    for warning in library.warnings:
        console.print(f"! {warning}", style="yellow")
    return 0


def _upload(options: argparse.Namespace) -> int:
    try:
        data = options.file.read_bytes()
    except OSError as error:
        console.print(f"plumcrate: {options.file}: {error.strerror}", style="yellow")
        return 2
    with client() as service:
        found = service.upload(
            options.library, options.path or options.file.name, data, NewFiles(options.treat)
        )
    if options.json:
        print_json(found)
        return 0
    said = {
        "light": "is served in light form; its copies follow", "done": "is treated",
        "waiting": "waits for its turn",
        "not-treated": "is in the library, not treated", "failed": f"could not be treated: {found.reason}",
    }  # fmt: skip
    console.print(
        f"{found.path} {said[found.state]}: {size(found.size_before)} → {size(found.size_now)} "
        f"({saved(found.size_before, found.size_now)}).",
    )
    return int(found.state == "failed")


def _hook(options: argparse.Namespace) -> int:
    with client() as service:
        found = service.hook_secret(options.library)
    if options.json:
        print_json(found)
        return 0
    console.print(f"Send webhooks to {found.url}\nsigned with the secret {found.secret}")
    console.print("The secret is shown this once; a former one is worth nothing from now on.", style=QUIET)
    return 0
