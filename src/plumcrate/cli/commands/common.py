"""What the commands share: the client, tables, JSON output."""

from __future__ import annotations

import argparse
import json
import sys
from collections.abc import Iterable, Sequence

from pydantic import BaseModel
from rich.console import Console
from rich.table import Table
from rich.text import Text

from plumcrate.cli import config
from plumcrate.cli.look import plain
from plumcrate.client import Client

Commands = argparse._SubParsersAction  # argparse's own name for what add_subparsers returns

#: Into a file or a pipe nothing is cut short.
console = Console(highlight=False, markup=False, emoji=False, width=None if sys.stdout.isatty() else 180)


def client() -> Client:
    """A client for the configured service. Raises ConfigError."""
    found = config.load()
    return Client(found.url, found.key)


def add(commands: Commands[argparse.ArgumentParser], name: str, summary: str) -> argparse.ArgumentParser:
    """A new command with ``--json``."""
    parser = commands.add_parser(name, help=summary, description=summary[0].upper() + summary[1:] + ".")
    parser.add_argument("--json", action="store_true", help="print JSON instead of text")
    return parser


def print_json(value: BaseModel | Sequence[BaseModel] | dict[str, object]) -> None:
    """Prints models as one JSON document."""
    if isinstance(value, BaseModel):
        data: object = value.model_dump(mode="json")
    elif isinstance(value, dict):
        data = value
    else:
        data = [one.model_dump(mode="json") for one in value]
    print(json.dumps(data, indent=2, ensure_ascii=False))


def table(
    columns: Sequence[str], rows: Iterable[Sequence[str | Text]], *, right: Sequence[str] = ()
) -> Table:
    """A quiet table: no frame, headings dim, figures to the right."""
    made = Table(box=None, pad_edge=False, header_style="bright_black", padding=(0, 2, 0, 0))
    for column in columns:
        made.add_column(
            column,
            justify="right" if column in right else "left",
            no_wrap=column != columns[-1],
            overflow="fold" if column == columns[-1] else "ellipsis",
        )
    for row in rows:
        # What a name holds is shown, never obeyed.
        made.add_row(*(Text(plain(cell)) if isinstance(cell, str) else cell for cell in row))
    return made
