"""The entry of the command line: arguments, exit codes, errors in plain words.

Exit codes: 0 done; 1 something was done but files failed; 2 the command was wrong; 3 the service
cannot be reached or the key is missing; 4 the service refused; 6 the records are of another version;
130 interrupted.
"""

from __future__ import annotations

import argparse
import json
import os
import shutil
import sys
from collections.abc import Sequence
from importlib import import_module
from typing import TYPE_CHECKING

from plumcrate import __version__

from .completion import asked, complete, wanted_command
from .index import INDEX, Index, listed, names, with_more

if TYPE_CHECKING:
    from .commands.common import CommandResult

PARTLY, WRONG, UNREACHABLE, REFUSED, INTERRUPTED = 1, 2, 3, 4, 130


def build_parser(index: Index, wanted: str | None) -> argparse.ArgumentParser:
    """The command line with the commands of one module, that of ``wanted``; without it, only their names."""
    parser = argparse.ArgumentParser(
        prog="plumcrate",
        usage="plumcrate [-h] [--version] COMMAND ...",
        description=f"Makes a media library light, and keeps it light.\n\n{_commands(index)}",
        epilog="plumcrate COMMAND --help says more of one.\n"
        "The address and key come from PLUMCRATE_URL and PLUMCRATE_KEY, or from .plumcrate.toml; with\n"
        "PLUMCRATE_SERVICE=NAME from [services.NAME] in it.",
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument("--version", action="version", version=f"plumcrate {__version__}")
    commands = parser.add_subparsers(
        metavar="COMMAND", help=argparse.SUPPRESS, required=True, prog="plumcrate"
    )
    known = {name: command for group in index.values() for name, command in group.items()}
    if wanted in known:
        from .commands.common import Commands

        import_module(known[wanted].module).add_commands(Commands(commands, index))
    else:
        for name in names(index):
            commands.add_parser(name)
    return parser


def _commands(index: Index) -> str:
    return listed(index, min(100, shutil.get_terminal_size().columns - 2))


def main(arguments: Sequence[str] | None = None, more: Index | None = None) -> int:
    """Runs one command and shows what it returns; returns its exit code. ``more``: further commands."""
    given = list(sys.argv[1:] if arguments is None else arguments)
    index = with_more(INDEX, more or {})
    if asked():
        complete(build_parser(index, wanted_command(os.environ.get("COMP_LINE", ""))))
    wanted = next((word for word in given if not word.startswith("-")), None)
    return _carried_out(build_parser(index, wanted).parse_args(given))


def _carried_out(options: argparse.Namespace) -> int:
    from pydantic import ValidationError
    from rich.console import Console

    from plumcrate.client import ProblemError, UnreachableError, WrongAnswerError, WrongNameError

    from .commands.common import WrongCommand, write_rows
    from .config import ConfigError

    errors = Console(stderr=True, highlight=False, soft_wrap=True)

    def failed(error: Exception | str, code: int) -> int:
        errors.print(f"plumcrate: {error}", markup=False)
        return code

    try:
        outcome: CommandResult = options.command(options)
        if getattr(options, "rows_to", None) is None:
            show(outcome, as_json=options.json)
        else:
            write_rows(outcome, options.rows_to, options.row)
    except WrongCommand as error:
        return failed(error, error.code)
    except WrongNameError as error:
        return failed(error, WRONG)
    except ValidationError as error:
        faults = (f"{'.'.join(map(str, fault['loc']))}: {fault['msg']}" for fault in error.errors())
        return failed("; ".join(fault.strip(": ") for fault in faults), WRONG)
    except (ConfigError, UnreachableError, WrongAnswerError) as error:
        return failed(error, UNREACHABLE)
    except ProblemError as error:
        return failed(error, REFUSED)
    except KeyboardInterrupt:
        return INTERRUPTED
    except BrokenPipeError:
        sys.stderr.close()
        return 0
    return outcome.code


def show(outcome: CommandResult, *, as_json: bool) -> None:
    """Prints what a command returned: one JSON document, or its lines."""
    from .commands.common import as_data, console

    if as_json:
        print(json.dumps(as_data(outcome.value), indent=2, ensure_ascii=False))
        return
    for line in outcome.lines:
        console.print(line)
