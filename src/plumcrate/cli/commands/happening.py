"""events: what happens in the service, as it happens."""

from __future__ import annotations

import argparse
import json
from datetime import datetime
from typing import Any

from plumcrate.cli.look import plain
from plumcrate.words import size

from .common import CommandResult, Commands, client, console


def add_commands(commands: Commands) -> None:
    events = commands.add("events")
    events.add_argument("library", nargs="?", help="only what happens there")
    events.add_argument("--run", type=int, help="only what happens in this run")
    events.add_argument("--most", type=int, metavar="N", help="end after so many lines")
    events.set_defaults(command=_events)


def _events(options: argparse.Namespace) -> CommandResult:
    """A line for each event, until somebody ends it; with ``--json`` a line of JSON."""
    shown = 0
    with client() as service:
        for name, data in service.events():
            if not _wanted(options, name, data):
                continue
            if options.json:
                print(json.dumps({"event": name, **data}, ensure_ascii=False), flush=True)
            elif (said := _said(name, data)) is not None:
                console.print(f"{datetime.now():%H:%M:%S}  {plain(said)}")
            else:
                continue
            shown += 1
            if shown == options.most:
                break
    options.json = False  # all was printed
    return CommandResult(None)


def _wanted(options: argparse.Namespace, name: str, data: dict[str, Any]) -> bool:
    if options.run is not None:
        return bool(data.get("id" if name == "run" else "run_id") == options.run and name in ("run", "item"))
    # A file's result and a description bear no library: they are shown where none was asked for.
    return options.library is None or data.get("library") == options.library


def _said(name: str, data: dict[str, Any]) -> str | None:
    """One line; None for what nobody looks at."""
    if name == "run":
        ended = f"{data['done'] + data['passed'] + data['failed']:,} of {data['files']:,} files"
        failed = f", {data['failed']:,} failed" if data["failed"] else ""
        return f"run {data['id']} in {data['library']}: {data['state']}, {ended}{failed}"
    if name == "job":
        return f"{data['kind']} {data['id']} in {data['library']}: {data['state']}"
    if name == "item":
        weights = ""
        if data.get("bytes_before") and data.get("bytes_after") is not None:
            weights = f", {size(data['bytes_before'])} → {size(data['bytes_after'])}"
        return f"run {data['run_id']}: {data['path']} {data['state']}{weights}{_because(data)}"
    if name == "description":
        return f"picture {data['picture_id']} was described"
    return None


def _because(data: dict[str, Any]) -> str:
    return f": {data['reason']}" if data.get("reason") and data["state"] == "failed" else ""
