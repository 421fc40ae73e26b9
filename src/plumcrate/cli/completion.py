"""Completing words in a shell: commands, options, their choices, and names of libraries.

The shell runs ``plumcrate`` with the line as it stands in the environment; ``plumcrate completion SHELL``
prints what tells a shell to do so.
"""

from __future__ import annotations

import argparse
import os
import shlex
from typing import Any

#: Set by a shell that asks for completions.
ASKED = "_ARGCOMPLETE"
#: So long a person who pressed the key waits for the service at most, in seconds.
_PATIENCE = 1.0


def wanted_command(line: str) -> str | None:
    """The command of a line that is being typed; None where only that is being typed."""
    try:
        words = shlex.split(line)
    except ValueError:  # a quote that is still open
        words = line.split()
    finished = words[1:] if line[-1:].isspace() else words[1:-1]
    return next((word for word in finished if not word.startswith("-")), None)


def complete(parser: argparse.ArgumentParser) -> None:
    """Answers the shell, and ends the process."""
    import argcomplete

    for action in _actions(parser):
        if action.dest == "library" and action.choices is None:
            setattr(action, "completer", _libraries)  # noqa: B010 - argcomplete's way
    argcomplete.autocomplete(parser, always_complete_options=False)


def _actions(parser: argparse.ArgumentParser) -> list[argparse.Action]:
    found: list[argparse.Action] = []
    for action in parser._actions:
        found.append(action)
        if isinstance(action, argparse._SubParsersAction):
            for inner in action.choices.values():
                found += _actions(inner)
    return found


def _libraries(**_: Any) -> list[str]:
    """The libraries' names; none without an answer at once."""
    from plumcrate.cli import config
    from plumcrate.client import Client, ClientError

    try:
        address = config.load()
        with Client(address.url, address.key, timeout=_PATIENCE, patience=0) as client:
            return [library.slug for library in client.libraries.all()]
    except (ClientError, config.ConfigError, ValueError):
        return []


def asked() -> bool:
    """Whether a shell asks for completions."""
    return ASKED in os.environ
