"""Words are completed as they are typed: what a shell asks for, and what tells it to ask."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

from plumcrate.cli.completion import wanted_command
from plumcrate.cli.main import main


def completed(line: str, place: Path, **environment: str) -> list[str]:
    """What a shell is told for a line, as argcomplete's protocol has it."""
    out = place / "words"
    asked = {
        "_ARGCOMPLETE": "1",
        "_ARGCOMPLETE_STDOUT_FILENAME": str(out),
        "_ARGCOMPLETE_IFS": "\n",
        "_ARGCOMPLETE_SUPPRESS_SPACE": "1",
        "COMP_LINE": line,
        "COMP_POINT": str(len(line.encode())),
    }
    code = "from plumcrate.__main__ import run; run()"
    environment = {name: value for name, value in os.environ.items() if name != "PLUMCRATE_KEY"} | environment
    subprocess.run([sys.executable, "-c", code], env=environment | asked, cwd=place, check=True, timeout=60)
    return [word.strip() for word in out.read_text().splitlines()]


def test_commands_options_and_choices_are_completed(tmp_path: Path) -> None:
    assert completed("plumcrate sav", tmp_path) == ["savings", "save-state"]
    assert "--older-than" in completed("plumcrate prune gannet-ledge --o", tmp_path)
    assert completed("plumcrate set-up a b --level ga", tmp_path) == ["gallery"]
    assert completed("plumcrate completion ", tmp_path) == ["bash", "zsh", "fish"]


def test_hostile_names_and_a_service_that_is_away_only_complete_nothing(tmp_path: Path) -> None:
    (tmp_path / "$(touch harm)").touch()
    (tmp_path / "`id`; x").touch()
    assert not completed("plumcrate savings g", tmp_path, PLUMCRATE_URL="http://127.0.0.1:9")
    assert completed("plumcrate 'sav", tmp_path) == ["savings", "save-state"]
    assert not (tmp_path / "harm").exists()


@pytest.mark.parametrize(
    ("line", "command"),
    [
        ("plumcrate", None),
        ("plumcrate sa", None),
        ("plumcrate savings ", "savings"),
        ("plumcrate --json run gannet", "run"),
        ("plumcrate run 'open", "run"),
    ],
)
def test_the_command_of_a_line_that_is_typed(line: str, command: str | None) -> None:
    assert wanted_command(line) == command


@pytest.mark.parametrize("shell", ["bash", "zsh", "fish"])
def test_what_makes_a_shell_ask(shell: str, capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["completion", shell]) == 0
    said = capsys.readouterr().out
    assert "plumcrate" in said
    assert {"bash": "complete ", "zsh": "compdef", "fish": "complete "}[shell] in said
