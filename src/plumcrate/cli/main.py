"""The entry of the command line: arguments, exit codes, errors in plain words.

Exit codes: 0 done; 1 something was done but files failed; 2 the command was wrong; 3 the service
cannot be reached or the key is missing; 4 the service refused; 130 interrupted.
"""

from __future__ import annotations

import argparse
import json
import sys
from collections.abc import Sequence
from types import ModuleType

from pydantic import ValidationError
from rich.console import Console

from plumcrate import __version__
from plumcrate.client import ProblemError, UnreachableError

from .commands import (
    care,
    keeping,
    libraries,
    people,
    pictures,
    plans,
    recipes,
    runs,
    serving,
    shapes,
    trial,
    weighing,
)
from .commands.common import Outcome, WrongCommand, as_data, console
from .config import ConfigError

PARTLY, WRONG, UNREACHABLE, REFUSED, INTERRUPTED = 1, 2, 3, 4, 130


def build_parser(more: Sequence[ModuleType] = ()) -> argparse.ArgumentParser:
    """The whole command line. ``more``: further modules of commands."""
    parser = argparse.ArgumentParser(
        prog="plumcrate",
        description="Makes a media library light, and keeps it light.",
        epilog="The address and key come from PLUMCRATE_URL and PLUMCRATE_KEY, or from .plumcrate.toml.",
    )
    parser.add_argument("--version", action="version", version=f"plumcrate {__version__}")
    commands = parser.add_subparsers(title="commands", metavar="COMMAND", required=True)
    for module in (
        libraries,
        recipes,
        runs,
        pictures,
        shapes,
        weighing,
        serving,
        care,
        keeping,
        people,
        plans,
        trial,
        *more,
    ):
        module.add_commands(commands)
    return parser


def main(arguments: Sequence[str] | None = None, more: Sequence[ModuleType] = ()) -> int:
    """Runs one command and shows what it returns; returns its exit code."""
    options = build_parser(more).parse_args(arguments)
    errors = Console(stderr=True, highlight=False, soft_wrap=True)

    def failed(error: Exception | str, code: int) -> int:
        errors.print(f"plumcrate: {error}", markup=False)
        return code

    try:
        outcome: Outcome = options.command(options)
        show(outcome, as_json=options.json)
    except WrongCommand as error:
        return failed(error, WRONG)
    except ValidationError as error:
        faults = (f"{'.'.join(map(str, fault['loc']))}: {fault['msg']}" for fault in error.errors())
        return failed("; ".join(fault.strip(": ") for fault in faults), WRONG)
    except (ConfigError, UnreachableError) as error:
        return failed(error, UNREACHABLE)
    except ProblemError as error:
        return failed(error, REFUSED)
    except KeyboardInterrupt:
        return INTERRUPTED
    except BrokenPipeError:
        sys.stderr.close()
        return 0
    return outcome.code


def show(outcome: Outcome, *, as_json: bool) -> None:
    """Prints what a command returned: one JSON document, or its lines."""
    if as_json:
        print(json.dumps(as_data(outcome.value), indent=2, ensure_ascii=False))
        return
    for line in outcome.lines:
        console.print(line)
