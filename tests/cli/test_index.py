"""The list of commands says what there is, and is all that ``plumcrate --help`` has to load."""

import shlex
import subprocess
import sys

import pytest

from plumcrate.cli.index import INDEX, listed, names, with_more
from plumcrate.cli.main import build_parser
from plumcrate.operate.index import INDEX as OPERATORS

EVERY = with_more(INDEX, OPERATORS)
COMMANDS = [(name, command) for commands in EVERY.values() for name, command in commands.items()]


@pytest.mark.parametrize(("name", "command"), COMMANDS, ids=[name for name, _ in COMMANDS])
def test_every_command_is_made_by_its_module_and_its_example_is_understood(
    name: str, command: object, capsys: pytest.CaptureFixture[str]
) -> None:
    parser = build_parser(EVERY, name)
    options = parser.parse_args([name, *shlex.split(EVERY_EXAMPLE[name])])
    assert callable(options.command)
    with pytest.raises(SystemExit):
        parser.parse_args([name, "--help"])
    said = capsys.readouterr().out
    assert f"Example: plumcrate {name}" in said
    lines = [line for line in said.splitlines() if "{" not in line and not line.startswith("Example")]
    assert max(map(len, lines)) <= 80


EVERY_EXAMPLE = {name: command.example for name, command in COMMANDS}


def test_a_name_stands_once_and_no_line_is_wider_than_it_may_be() -> None:
    assert len(set(names(EVERY))) == len(names(EVERY))
    for columns in (60, 80, 100):
        lines = listed(EVERY, columns).splitlines()
        assert max(map(len, lines)) <= columns
    assert all(any(line.strip().startswith(f"{name} ") for line in lines) for name in names(EVERY))


def test_what_there_is_not_is_refused_with_what_there_is(capsys: pytest.CaptureFixture[str]) -> None:
    with pytest.raises(SystemExit) as ended:
        build_parser(EVERY, "polish").parse_args(["polish"])
    assert ended.value.code == 2
    assert "savings" in capsys.readouterr().err


HELP = """
import sys
from plumcrate.__main__ import run
try:
    run()
except SystemExit:
    pass
print([name for name in ("pydantic", "httpx", "rich", "sqlalchemy", "numpy") if name in sys.modules])
"""


def test_help_loads_no_command() -> None:
    done = subprocess.run([sys.executable, "-c", HELP, "--help"], capture_output=True, text=True, check=True)
    assert done.stdout.endswith("[]\n")
    assert "hand-back" in done.stdout
