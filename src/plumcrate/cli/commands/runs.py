"""run, restore, runs, watch, pause, resume, stop, retry."""

from __future__ import annotations

import argparse
from collections import deque
from collections.abc import Iterator

from rich.console import Group, RenderableType
from rich.live import Live
from rich.text import Text

from plumcrate.cli.look import CLAY, LEAF, QUIET, duration, points, slat
from plumcrate.client import Client
from plumcrate.contract.common import Level
from plumcrate.contract.jobs import JobKind
from plumcrate.contract.pictures import PictureFilter
from plumcrate.contract.runs import Item, ItemState, Run, RunKind, RunRequest, RunState, Scope
from plumcrate.words import saved, size

from .common import CommandResult, Commands, WrongCommand, client, console, table
from .libraries import COPIES_HELP, formats
from .pictures import add_filter, find, picture_filter

_ENDED = (RunState.FINISHED, RunState.STOPPED)
_SHOWN = 20


def add_commands(commands: Commands) -> None:
    run = commands.add("run")
    _add_scope(run)
    run.add_argument("--level", choices=[str(level) for level in Level], help="default: the library's")
    run.add_argument("--copies", type=formats, metavar="FORMATS", help=COPIES_HELP)
    run.add_argument("--untreated", action="store_true", help="only files that no run has dealt with")
    run.add_argument("--failed-of", type=int, metavar="RUN", help="only the files that failed in this run")
    run.add_argument("--first", action="store_true", help="before all that waits")
    run.add_argument("--force", action="store_true", help="also files already treated with these settings")
    run.set_defaults(command=_run)

    restore = commands.add("restore")
    _add_scope(restore)
    restore.add_argument("--run", type=int, help="the files of this run")
    restore.add_argument("--overwrite", action="store_true", help="also files that somebody changed since")
    restore.add_argument("--all", action="store_true", help="the whole library")
    restore.set_defaults(command=_restore)

    listing = commands.add("runs", rows=Run)
    listing.add_argument("library", nargs="?")
    listing.set_defaults(command=_runs)

    watch = commands.add("watch")
    watch.add_argument("run", type=int, nargs="?")
    watch.set_defaults(command=_watch)

    for name in ("pause", "resume", "stop", "retry"):
        parser = commands.add(name)
        parser.add_argument("run", type=int)
        parser.set_defaults(command=_change, action=name)


def _add_scope(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("library")
    parser.add_argument("--folder", help="only this folder and what is under it")
    parser.add_argument(
        "--picture", action="append", metavar="PATH", help="only this picture; may be given several times"
    )
    parser.add_argument("--no-wait", action="store_true", help="start it and return at once")
    add_filter(parser)


def _scope(service: Client, options: argparse.Namespace) -> Scope:
    """All that was asked for must hold; the service refuses what does not go together."""
    pictures = options.picture and [find(service, options.library, path) for path in options.picture]
    which = picture_filter(options)
    return Scope(
        which=which if which != PictureFilter(folder=options.folder) else None,
        folder=options.folder,
        pictures=pictures or None,
        run=getattr(options, "run", None),
        failed_of=getattr(options, "failed_of", None),
        untreated=getattr(options, "untreated", False),
    )


def _run(options: argparse.Namespace) -> CommandResult:
    with client() as service:
        request = RunRequest(
            library=options.library, scope=_scope(service, options), force=options.force, first=options.first
        )
        if options.level:
            request.level = Level(options.level)
        if options.copies is not None:
            request.copies = options.copies
        as_forecast = request == RunRequest(library=options.library, force=options.force, first=options.first)
        if as_forecast and not options.json:
            _predict(service, options.library)
        return _started(service, service.runs.start(request), options)


def _predict(service: Client, library: str) -> None:
    """Says how long the whole library takes, as far as a forecast has said so."""
    for job in service.jobs.page(library, JobKind.FORECAST):
        outlook = job.forecast.outlook if job.forecast else None
        if outlook and outlook.run_seconds is not None:
            told = f"{duration(outlook.run_seconds)} here, by the forecast of {job.created_at:%d %B}"
            console.print(Text(f"The whole library takes about {told}.", style=QUIET))
            return


def _restore(options: argparse.Namespace) -> CommandResult:
    if not (options.all or options.picture or options.run or picture_filter(options) != PictureFilter()):
        raise WrongCommand("name what to restore: --picture, --folder, --run, --all, or which pictures")
    with client() as service:
        request = RunRequest(
            library=options.library,
            kind=RunKind.RESTORE,
            scope=_scope(service, options),
            overwrite=options.overwrite,
        )
        return _started(service, service.runs.start(request), options)


def _started(service: Client, run: Run, options: argparse.Namespace) -> CommandResult:
    if options.no_wait:
        said = f"Run {run.id} has started: {run.files:,} files. Follow it: plumcrate watch {run.id}"
        return CommandResult(run, [said])
    return follow_run(service, run.id, quiet=options.json)


def _watch(options: argparse.Namespace) -> CommandResult:
    with client() as service:
        number = options.run
        if number is None:
            latest = service.runs.page(limit=1)
            if not latest:
                return CommandResult(None, ["There has been no run yet. Next: plumcrate run LIBRARY"])
            number = latest[0].id
        return follow_run(service, number, quiet=options.json)


def follow_run(service: Client, run_id: int, *, quiet: bool) -> CommandResult:
    """Shows a run until it ends; leaving with Ctrl-C leaves the run running."""
    if quiet or not console.is_terminal:
        run = service.runs.wait(run_id)
    else:
        run = _shown_live(service, run_id, service.runs.follow(run_id))
    return CommandResult(run, _end_lines(service, run), int(run.failed > 0))


def _shown_live(service: Client, run_id: int, told: Iterator[Run]) -> Run:
    landed: deque[Item] = deque(maxlen=8)
    seen: set[int] = set()
    with Live(console=console, refresh_per_second=4) as live:
        for run in told:
            _collect(service, run_id, landed, seen)
            live.update(_progress(run, landed))
    return run


def _collect(service: Client, run_id: int, landed: deque[Item], seen: set[int]) -> None:
    states = [str(state) for state in (ItemState.DONE, ItemState.PASSED, ItemState.FAILED)]
    for item in reversed(service.runs.items(run_id, state=states, limit=8).rows):
        if item.id not in seen:
            seen.add(item.id)
            landed.append(item)


def _progress(run: Run, landed: deque[Item]) -> Group:
    ended = run.files - run.left
    lines = [
        Text.assemble(
            (f"Run {run.id}", "bold"), f"  {run.kind} {run.library} {run.level or ''}  ", (run.state, QUIET)
        ),
        Text.assemble(
            slat(max(run.files, 1), ended, 40),
            f"  {ended:,} of {run.files:,} files, {run.failed:,} failed",
        ),
        Text(
            f"{size(run.bytes_before)} became {size(run.bytes_after)} "
            f"({saved(run.bytes_before, run.bytes_after)}); a modern browser "
            f"fetches {size(run.bytes_lightest)}. {_rate(run)}"
        ),
        Text(""),
    ]
    lines.extend(_landed(item) for item in landed)
    lines.extend(Text(f"  … {path}", style=QUIET) for path in run.in_hand)
    return Group(*lines)


def _rate(run: Run) -> str:
    if run.waits_for:
        return f"Waiting for {run.waits_for}."
    if run.megapixels_per_second is None or run.state in _ENDED:
        return ""
    held = f" Held back by {run.held_back}." if run.held_back else ""
    digits = 1 if run.megapixels_per_second >= 0.95 else 2
    return (
        f"{run.megapixels_per_second:.{digits}f} megapixels a second, about "
        f"{duration(run.seconds_left)} left.{held}"
    )


def _landed(item: Item) -> Text:
    if item.state is ItemState.FAILED:
        return Text(f"  ✗ {item.path}: {item.reason}", style=CLAY, overflow="ellipsis", no_wrap=True)
    if item.state is ItemState.PASSED:
        return Text(f"  – {item.path}: {item.reason}", style=QUIET, overflow="ellipsis", no_wrap=True)
    return Text.assemble(
        ("  ✓ ", LEAF),
        f"{item.path}  {size(item.bytes_before)} → {size(item.bytes_after)}  "
        f"lightest {size(item.bytes_lightest)}  score {points(item.score)}",
        overflow="ellipsis",
        no_wrap=True,
    )


def _end_lines(service: Client, run: Run) -> list[RenderableType]:
    lines: list[RenderableType] = [
        f"Run {run.id} has {run.state}: {run.done:,} files done, {run.passed:,} left as they were, "
        f"{run.failed:,} failed"
        + (f", {run.already:,} already treated." if run.already else ".")
        + (f" {run.left_out:,} are left alone by the recipe." if run.left_out else "")
        + (f" {run.elsewhere:,} are left to another run." if run.elsewhere else "")
    ]
    if run.done and run.kind is RunKind.TREAT:
        lines.append(
            f"{size(run.bytes_before)} became {size(run.bytes_after)} "
            f"({saved(run.bytes_before, run.bytes_after)}); a modern browser fetches "
            f"{size(run.bytes_lightest)} ({saved(run.bytes_before, run.bytes_lightest)})."
        )
    if run.failed:
        failed = service.runs.items(run.id, state=[str(ItemState.FAILED)], limit=_SHOWN).rows
        lines += [_landed(item) for item in failed]
        if run.failed > _SHOWN:
            lines.append(f"  and {run.failed - _SHOWN:,} more")
        lines.append(f"Try them again: plumcrate retry {run.id}")
    return lines


def _runs(options: argparse.Namespace) -> CommandResult:
    with client() as service:
        runs = service.runs.page(options.library)
    rows = [
        (
            str(run.id),
            f"{run.created_at.astimezone():%Y-%m-%d %H:%M}",
            run.library,
            f"{run.kind} {run.level or ''}".strip(),
            run.state,
            f"{run.files:,}",
            f"{run.done:,}",
            f"{run.failed:,}",
            size(run.bytes_before),
            saved(run.bytes_before, run.bytes_after),
        )
        for run in runs
    ]
    columns = ("run", "started", "library", "what", "state", "files", "done", "failed", "before", "saved")
    figures = ("run", "files", "done", "failed", "before", "saved")
    return CommandResult(runs, [table(columns, rows, right=figures)])


def _change(options: argparse.Namespace) -> CommandResult:
    with client() as service:
        run: Run = getattr(service.runs, options.action)(options.run)
    return CommandResult(run, [f"Run {run.id} is {run.state}; {run.left:,} files left."])
