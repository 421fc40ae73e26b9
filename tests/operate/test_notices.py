"""Others' licences go with what holds their work."""

import json
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[2]
BUILT = ROOT / "src/plumcrate/api/static"


def test_the_built_console_brings_the_licence_of_all_that_it_contains() -> None:
    if not (BUILT / "index.html").exists():
        pytest.skip("the console was not built")
    notices = (BUILT / "licences.txt").read_text(encoding="utf-8")
    locked = json.loads((ROOT / "console/package-lock.json").read_text(encoding="utf-8"))["packages"]
    needed = json.loads((ROOT / "console/package.json").read_text(encoding="utf-8"))["dependencies"]
    for name in needed:
        facts = locked[f"node_modules/{name}"]
        assert f"{name} {facts['version']} ({facts['license']})\n" in notices
    assert "eslint" not in notices
    assert notices.count("SIL OPEN FONT LICENSE Version 1.1") >= 3
    assert notices.count("brings no text of its licence") < 4


def test_what_the_program_holds_of_others_stands_in_the_notice_that_is_installed_with_it() -> None:
    notice = (ROOT / "NOTICE").read_text(encoding="utf-8")
    assert "Jon Sneyers" in notice
    assert "Redistributions in binary form must reproduce the above copyright notice" in notice
    assert 'license-files = ["LICENSE", "NOTICE"]' in (ROOT / "pyproject.toml").read_text(encoding="utf-8")
