"""The entry of the command line: arguments, exit codes, errors in plain words.

Exit codes: 0 done; 1 something was done but files failed; 2 the command was wrong; 3 the service
cannot be reached or the key is missing; 4 the service refused; 130 interrupted.
"""

from __future__ import annotations

import argparse
import sys
from collections.abc import Sequence

from rich.console import Console

from plumcrate import __version__
from plumcrate.client import ProblemError, UnreachableError

from .commands import care, libraries, pictures, recipes, runs, trial
from .config import ConfigError

PARTLY, WRONG, UNREACHABLE, REFUSED, INTERRUPTED = 1, 2, 3, 4, 130


def build_parser() -> argparse.ArgumentParser:
    """The whole command line."""
    parser = argparse.ArgumentParser(
        prog="plumcrate",
        description="Makes a media library light, and keeps it light.",
        epilog="The address and key come from PLUMCRATE_URL and PLUMCRATE_KEY, or from .plumcrate.toml.",
    )
    parser.add_argument("--version", action="version", version=f"plumcrate {__version__}")
    commands = parser.add_subparsers(title="commands", metavar="COMMAND", required=True)
    for module in (libraries, recipes, runs, pictures, care, trial):
        module.add_commands(commands)
    return parser


def main(arguments: Sequence[str] | None = None) -> int:
    """Runs one command; returns its exit code."""
    options = build_parser().parse_args(arguments)
    errors = Console(stderr=True, highlight=False, soft_wrap=True)
    try:
        code: int = options.command(options)
    except (ConfigError, UnreachableError) as error:
        errors.print(f"plumcrate: {error}", markup=False)
        return UNREACHABLE
    except ProblemError as error:
        errors.print(f"plumcrate: {error}", markup=False)
        return REFUSED
    except KeyboardInterrupt:
        return INTERRUPTED
    except BrokenPipeError:
        sys.stderr.close()
        return 0
    return code


def run() -> None:
    """What the installed command calls."""
    sys.exit(main())
