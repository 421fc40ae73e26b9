"""start, tables, administrator, check-machine, settings, save-state, bring-back, move-records: on the
service's own machine, as its own user. They need no key."""

from __future__ import annotations

import argparse
import getpass
import secrets
import signal
import sys
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from rich.text import Text

from plumcrate.cli.commands.care import machine_lines
from plumcrate.cli.commands.common import CommandResult, Commands, WrongCommand, table
from plumcrate.cli.look import CLAY, QUIET, plain
from plumcrate.words import size

if TYPE_CHECKING:
    from plumcrate.operate.saving import SavedState
    from plumcrate.settings import Settings


def add_commands(commands: Commands) -> None:
    start = commands.add("start")
    start.add_argument("--only", choices=["records", "service", "worker"], help="just this one")
    start.set_defaults(command=_start)

    tables = commands.add("tables")
    tables.set_defaults(command=_tables)

    administrator = commands.add("administrator")
    administrator.add_argument("email")
    administrator.add_argument("--name", default="")
    administrator.add_argument(
        "--print",
        action="store_true",
        dest="printed",
        help="make a password and print it once; else it is asked for",
    )
    administrator.add_argument(
        "--key",
        metavar="NAME",
        help="also make a key that administers the service, and print it once: for the command line",
    )
    administrator.set_defaults(command=_administrator)

    check = commands.add("check-machine")
    check.set_defaults(command=_check)

    settings = commands.add("settings")
    settings.set_defaults(command=_settings)

    save = commands.add("save-state")
    save.add_argument("folder", type=Path)
    save.set_defaults(command=_save)

    back = commands.add("bring-back")
    back.add_argument("folder", type=Path)
    back.set_defaults(command=_bring_back)

    move = commands.add("move-records")
    move.add_argument("database", help="postgresql://… of an empty database")
    move.set_defaults(command=_move)


def _start(options: argparse.Namespace) -> CommandResult:
    from plumcrate import logs
    from plumcrate.operate.running import start

    settings = _loaded()
    logs.configure(settings.log_form)
    return CommandResult(None, (), _said(lambda: start(settings, options.only)))


def _loaded() -> Settings:
    from plumcrate.settings import WrongSettings, load

    try:
        return load()
    except WrongSettings as error:
        raise WrongCommand(str(error)) from None


def _said(act: Callable[[], Any]) -> Any:
    """What an act returns; what it cannot do is said in its words."""
    from sqlalchemy.exc import OperationalError

    from plumcrate.operate.records import CannotStart
    from plumcrate.records.database import OtherVersion
    from plumcrate.refusal import Refusal
    from plumcrate.storage.errors import StorageError

    try:
        return act()
    except (CannotStart, StorageError, Refusal) as error:
        raise WrongCommand(str(error)) from None
    except OtherVersion as error:
        raise WrongCommand(str(error), error.code) from None
    except OperationalError as error:
        said = str(error.orig).splitlines()[0] if error.orig else "it does not answer"
        raise WrongCommand(f"the database cannot be reached: {said}") from None
    except OSError as error:
        raise WrongCommand(f"{error.filename or 'a file'}: {error.strerror or error}") from None


def _with_records(act: Callable[[Settings, Any], Any]) -> Any:
    """Does something with the records, whose private server is started for it where it does not run."""
    from plumcrate.operate.records import begun
    from plumcrate.records.database import Database

    def done() -> Any:
        # So that a server which was started for this is stopped also when somebody ends it.
        signal.signal(signal.SIGTERM, lambda *_: sys.exit(143))
        settings, server = begun(_loaded())
        database = Database(settings.database_url)
        try:
            return act(settings, database)
        finally:
            database.close()
            if server is not None:
                server.stop()

    return _said(done)


def _tables(_: argparse.Namespace) -> CommandResult:
    _with_records(lambda _, database: database.migrate())
    return CommandResult({"done": True}, ["The tables are up to date."])


def _administrator(options: argparse.Namespace) -> CommandResult:
    password = secrets.token_urlsafe(12) if options.printed else _asked()

    def act(_: Settings, database: Any) -> tuple[bool, str | None]:
        from plumcrate.contract.people import KeyRequest
        from plumcrate.people.administrators import make_administrator
        from plumcrate.people.keys import new_key

        database.migrate()
        with database.begin() as session:
            new = make_administrator(session, options.email, options.name, password)
            if options.key is None:
                return new, None
            return new, new_key(session, KeyRequest(name=options.key, service=True), options.email)[1]

    new, key = _with_records(act)
    said = "made" if new else "reset: signed out everywhere, without a second factor"
    lines = [f"The account {options.email} was {said}."]
    if options.printed:
        lines.append(f"Password, shown this once: {password}")
    if key is not None:
        lines.append(f"Key, shown this once: {key}")
    value = {
        "email": options.email,
        "new": new,
        "password": password if options.printed else None,
        "key": key,
    }
    return CommandResult(value, lines)


def _asked() -> str:
    if not sys.stdin.isatty():
        return sys.stdin.readline().rstrip("\n")
    password = getpass.getpass("Password: ")
    if getpass.getpass("Once more: ") != password:
        raise WrongCommand("the two differ; nothing was changed")
    return password


def _check(_: argparse.Namespace) -> CommandResult:
    from plumcrate.operate.checking import check

    machine = check(_loaded())
    return CommandResult(machine, machine_lines(machine), int(machine.verdict == "broken"))


def _settings(_: argparse.Namespace) -> CommandResult:
    from plumcrate.settings import Settings, file_of_settings, origin, shown

    settings = _loaded()
    rows = [
        (name, shown(name, getattr(settings, name)), origin(name), field.description or "")
        for name, field in Settings.model_fields.items()
    ]
    value: dict[str, object] = {name: {"value": said, "from": source} for name, said, source, _ in rows}
    place = file_of_settings()
    where = Text(f"file: {place or 'none'}", style=QUIET)
    return CommandResult(value, [table(("setting", "value", "from", ""), rows), where])


def _save(options: argparse.Namespace) -> CommandResult:
    def act(settings: Settings, database: Any) -> SavedState:
        from plumcrate.operate.saving import save

        return save(database, settings.state_dir, options.folder, _say)

    report = _with_records(act)
    new = f"{report.copied:,} were new ({size(report.bytes)})"
    lines = [
        f"Saved to {options.folder}: the records as {report.records},",
        f"and {report.backups:,} backups, of which {new}.",
    ]
    return _reported(report, lines)


def _bring_back(options: argparse.Namespace) -> CommandResult:
    def act(settings: Settings, database: Any) -> SavedState:
        from plumcrate.operate.saving import bring_back

        return bring_back(database, settings.state_dir, options.folder, _say)

    report = _with_records(act)
    lines = [
        f"Brought back: the records {report.records}, and {report.backups:,} backups.",
        "Start the service, then: plumcrate verify LIBRARY --mend",
    ]
    return _reported(report, lines)


def _reported(report: SavedState, lines: list[str]) -> CommandResult:
    from dataclasses import asdict

    said: list[str | Text] = list(lines)
    said += [Text(plain(f"damaged, not copied: {name}"), style=CLAY) for name in report.damaged]
    said += [Text(plain(f"no backup: {name}"), style=CLAY) for name in report.missing]
    return CommandResult(asdict(report), said, int(bool(report.damaged or report.missing)))


def _move(options: argparse.Namespace) -> CommandResult:
    from plumcrate.operate.moving import move_records
    from plumcrate.operate.records import private_server
    from plumcrate.settings import shown

    settings = _loaded()
    if settings.database_url:
        raise WrongCommand("database_url names a database already: the records are there")
    aside = _said(lambda: move_records(private_server(settings), options.database))
    return CommandResult(
        {"aside": str(aside)},
        [
            "The records are moved. Before the next start put its address into the settings:",
            f'database_url = "{shown("database_url", options.database)}" (with its password)',
            f"The private server was put aside: {aside}",
        ],
    )


def _say(text: str) -> None:
    print(text, file=sys.stderr)
