"""What the commands share: the client, what they return, tables."""

from __future__ import annotations

import argparse
import json
import sys
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from importlib import import_module
from pathlib import Path
from typing import Any, TypeVar

from pydantic import BaseModel
from rich.console import Console, RenderableType
from rich.table import Table
from rich.text import Text

from plumcrate.cli import config
from plumcrate.cli.index import Index
from plumcrate.cli.look import plain
from plumcrate.client import Client
from plumcrate.contract.common import Page
from plumcrate.csv_lines import line

Settings = TypeVar("Settings", bound=BaseModel)


class Commands:
    """What a module of commands adds its own to, each with ``--json``, its summary and its example."""

    def __init__(self, parsers: argparse._SubParsersAction[argparse.ArgumentParser], index: Index) -> None:
        self._parsers, self.index = parsers, index
        self._known = {name: command for commands in index.values() for name, command in commands.items()}

    def add(self, name: str, *, rows: type[BaseModel] | None = None) -> argparse.ArgumentParser:
        """A parser for a command of the index; ``rows``: what it prints rows of. Raises KeyError for one that
        is not there."""
        command = self._known[name]
        summary = command.summary
        parser = self._parsers.add_parser(
            name,
            description=f"{summary[0].upper()}{summary[1:]}.",
            epilog=f"Example: plumcrate {name} {command.example}".rstrip(),
        )
        parser.add_argument("--json", action="store_true", help="print JSON instead of text")
        if rows is not None:
            parser.set_defaults(row=rows)
            parser.add_argument(
                "--csv",
                dest="rows_to",
                metavar="FILE",
                help="write the rows to a file as CSV instead; - for the output",
            )
        return parser

    def every_parser(self) -> dict[str, argparse.ArgumentParser]:
        """Of every command, whatever module makes it."""
        parsers = argparse.ArgumentParser(prog="plumcrate").add_subparsers(prog="plumcrate")
        every = Commands(parsers, self.index)
        for module in sorted({command.module for command in self._known.values()}):
            import_module(module).add_commands(every)
        return dict(parsers.choices)


#: Into a file or a pipe nothing is cut short.
console = Console(highlight=False, markup=False, emoji=False, width=None if sys.stdout.isatty() else 180)


class WrongCommand(Exception):
    """The command cannot be understood, or nothing is there that it speaks of; the text says why.
    ``code``: the exit code."""

    def __init__(self, text: str, code: int = 2) -> None:
        super().__init__(text)
        self.code = code


@dataclass(frozen=True, slots=True)
class CommandResult:
    """What a command returns: ``value`` for ``--json``, ``lines`` for people, the exit code, and ``rows`` for
    ``--csv`` where they are not ``value``'s own."""

    value: BaseModel | Sequence[BaseModel] | dict[str, object] | None
    lines: Sequence[RenderableType] = ()
    code: int = 0
    rows: Sequence[BaseModel] | None = None


def client() -> Client:
    """A client for the configured service. Raises ConfigError."""
    address = config.load()
    return Client(address.url, address.key)


def write_rows(outcome: CommandResult, place: str, row: type[BaseModel]) -> None:
    """Writes a command's rows as CSV (RFC 4180): a column for each field, what lies within one as JSON.
    ``row``: what it would hold, where there is none. Raises WrongCommand."""
    value = outcome.value.rows if isinstance(outcome.value, Page) else outcome.value
    rows = outcome.rows if outcome.rows is not None else value
    if not isinstance(rows, Sequence):
        raise WrongCommand("what this answers has no rows: --json writes all of it")
    lines = [line((type(rows[0]) if rows else row).model_fields)]
    lines += [line(map(_cell, each.model_dump(mode="json").values())) for each in rows]
    written = "".join(lines)
    if place == "-":
        sys.stdout.write(written)
        return
    try:
        Path(place).write_text(written, encoding="utf-8", newline="")
    except OSError as error:
        raise WrongCommand(f"{place}: {error.strerror}") from None


def _cell(value: object) -> object:
    return json.dumps(value, ensure_ascii=False) if isinstance(value, list | dict | bool) else value


def as_data(value: BaseModel | Sequence[BaseModel] | dict[str, object] | None) -> object:
    """An outcome's value as plain data."""
    if isinstance(value, BaseModel):
        return value.model_dump(mode="json")
    if isinstance(value, dict) or value is None:
        return value
    return [each.model_dump(mode="json") for each in value]


def table(
    columns: Sequence[str], rows: Iterable[Sequence[str | Text]], *, right: Sequence[str] = ()
) -> Table:
    """A quiet table: no frame, headings dim, figures to the right."""
    grid = Table(box=None, pad_edge=False, header_style="bright_black", padding=(0, 2, 0, 0))
    for column in columns:
        grid.add_column(
            column,
            justify="right" if column in right else "left",
            no_wrap=column != columns[-1],
            overflow="fold" if column == columns[-1] else "ellipsis",
        )
    for row in rows:
        # What a name holds is shown, never obeyed.
        grid.add_row(*(Text(plain(cell)) if isinstance(cell, str) else cell for cell in row))
    return grid


def change_settings(values: dict[str, Any], changes: Sequence[str]) -> None:
    """Changes settings as they are given on the command line: ``NAME=VALUE``, names with dots for what lies
    within, lists with commas. Raises ValueError."""
    for change in changes:
        name, equals, text = change.partition("=")
        if not equals:
            raise ValueError(f"{change}: give NAME=VALUE")
        place = values
        *path, last = name.split(".")
        for part in path:
            if not isinstance(place.get(part), dict):
                raise ValueError(f"there is no setting {name}")
            place = place[part]
        if last not in place:
            raise ValueError(f"there is no setting {name}")
        place[last] = _value(place[last], text)


def _value(former: object, text: str) -> object:
    """A setting's value from what people write: JSON, or just what :func:`shown` says of one."""
    if isinstance(former, list):
        if text == "none":
            return []
    elif text in _WRITTEN:
        return _WRITTEN[text]
    try:
        return json.loads(text)
    except json.JSONDecodeError:
        return [_item(part) for part in text.split(",") if part] if isinstance(former, list) else text


#: Values as :func:`shown` writes them.
_WRITTEN: dict[str, bool | None] = {"yes": True, "no": False, "–": None}


def _item(text: str) -> object:
    """One entry of a list: a number where it is one."""
    try:
        return int(text)
    except ValueError:
        pass
    try:
        return float(text)
    except ValueError:
        return text


def changed(kind: type[Settings], changes: Sequence[str]) -> Settings:
    """Settings of which only those are set that are given on the command line. Raises WrongCommand."""
    values = kind().model_dump(mode="json")
    try:
        change_settings(values, changes)
    except ValueError as error:
        raise WrongCommand(str(error)) from None
    named: dict[str, Any] = {}
    for change in changes:
        *path, last = change.partition("=")[0].split(".")
        place, found = named, values
        for part in path:
            place, found = place.setdefault(part, {}), found[part]
        place[last] = found[last]
    return kind.model_validate(named)


def shown(value: object) -> str:
    """A setting's value for people."""
    if value is None or isinstance(value, bool):
        return {True: "yes", False: "no", None: "–"}[value]
    return (", ".join(map(str, value)) or "none") if isinstance(value, list) else str(value)
