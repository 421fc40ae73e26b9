"""completion: what tells a shell to complete words of the command line."""

from __future__ import annotations

import argparse

from .common import CommandResult, Commands

_SHELLS = ("bash", "zsh", "fish")


def add_commands(commands: Commands) -> None:
    parser = commands.add("completion")
    parser.add_argument("shell", choices=_SHELLS)
    parser.set_defaults(command=_completion)


def _completion(options: argparse.Namespace) -> CommandResult:
    from argcomplete.shell_integration import shellcode

    code = shellcode(["plumcrate"], shell=options.shell).strip()
    return CommandResult({"shell": options.shell, "code": code}, [code])
