"""completion, manual: what tells a shell to complete words of the command line, and the manual page."""

from __future__ import annotations

import argparse

from .common import CommandResult, Commands

_SHELLS = ("bash", "zsh", "fish")


def add_commands(commands: Commands) -> None:
    parser = commands.add("completion")
    parser.add_argument("shell", choices=_SHELLS)
    parser.set_defaults(command=_completion)
    commands.add("manual").set_defaults(command=lambda _: _manual(commands))


def _manual(commands: Commands) -> CommandResult:
    from plumcrate.cli.manual import manual

    page = manual(commands.index, commands.every_parser())
    return CommandResult({"page": page}, [page.rstrip()])


def _completion(options: argparse.Namespace) -> CommandResult:
    from argcomplete.shell_integration import shellcode

    code = shellcode(["plumcrate"], shell=options.shell).strip()
    return CommandResult({"shell": options.shell, "code": code}, [code])
