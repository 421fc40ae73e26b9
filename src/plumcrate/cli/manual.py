"""The manual page of the command line, made of what its parsers say: man(7)."""

from __future__ import annotations

import argparse
from collections.abc import Iterator

from plumcrate import __version__

from .index import Index

_CODES = (
    ("0", "done"),
    ("1", "something was done, but files failed, or what was looked at is not as it should be"),
    ("2", "the command was wrong"),
    ("3", "the service cannot be reached, or the key is missing"),
    ("4", "the service refused"),
    ("6", "the records are of another version of the program"),
    ("130", "interrupted"),
)


def manual(index: Index, parsers: dict[str, argparse.ArgumentParser]) -> str:
    """``parsers`` by the commands' names."""
    return "\n".join(_lines(index, parsers)) + "\n"


def _lines(index: Index, parsers: dict[str, argparse.ArgumentParser]) -> Iterator[str]:
    yield f'.TH PLUMCRATE 1 "" "Plum Crate {__version__}" "User Commands"'
    yield ".SH NAME\nplumcrate \\- makes a media library light, and keeps it light"
    yield ".SH SYNOPSIS\n.B plumcrate\n.I COMMAND\n[\\-\\-json] ..."
    yield ".SH DESCRIPTION\nTalks to a service of Plum Crate. Every command takes \\-\\-json and \\-\\-help."
    for job, commands in index.items():
        yield f".SH {_plain(job.upper())}"
        for name, command in commands.items():
            parser = parsers[name]
            told = [action for action in parser._actions if action.dest not in ("help", "json")]
            words = [name, *(_called(action) for action in told if not action.option_strings)]
            yield f".TP\n.B {_plain(' '.join(words))}\n{_sentence(command.summary)}"
            for action in told:
                if action.help not in (None, argparse.SUPPRESS):
                    said = str(action.help).replace("%%", "%")
                    yield f".br\n.I {_plain(_called(action))}\n{_sentence(said)}"
            if command.example:
                yield f".br\nExample: plumcrate {_plain(name)} {_plain(command.example)}"
    yield ".SH ENVIRONMENT"
    yield ".TP\n.B PLUMCRATE_URL, PLUMCRATE_KEY\nWhere the service is, and with what key."
    yield ".TP\n.B PLUMCRATE_SERVICE\nWhich of the services in .plumcrate.toml is meant."
    yield ".TP\n.B NO_COLOR\nNothing is coloured."
    yield ".SH FILES\n.TP\n.I .plumcrate.toml, ~/.config/plumcrate.toml"
    yield "The same as url and key, and of other services under [services.NAME]."
    yield ".SH EXIT STATUS"
    for code, meaning in _CODES:
        yield f".TP\n.B {code}\n{_sentence(meaning)}"


def _called(action: argparse.Action) -> str:
    """An argument as it is written."""
    value = action.metavar or action.dest
    if isinstance(value, tuple):
        value = " ".join(value)
    if not action.option_strings:
        return f"[{value}]" if action.nargs in ("?", "*") else value
    takes = "" if action.nargs == 0 else f" {value if action.metavar else value.upper()}"
    return f"{', '.join(action.option_strings)}{takes}"


def _sentence(words: str) -> str:
    return _plain(f"{words[:1].upper()}{words[1:]}".rstrip(".") + ".")


def _plain(text: str) -> str:
    """Text that troff sets as it stands."""
    escaped = text.replace("\\", "\\e").replace("-", "\\-")
    return "\n".join(f"\\&{line}" if line[:1] in (".", "'") else line for line in escaped.split("\n"))
