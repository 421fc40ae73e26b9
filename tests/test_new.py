"""What script/new writes fits in: the project with it is described, typed as before, and names what it
wrote."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).resolve().parents[1]


@pytest.fixture
def copy(tmp_path: Path) -> Path:
    """As much of the project as is written to."""
    for place in ("src/plumcrate", "tests/api/test_separation.py", "console/src/pages.tsx"):
        target = tmp_path / place
        target.parent.mkdir(parents=True, exist_ok=True)
        if (ROOT / place).is_dir():
            shutil.copytree(
                ROOT / place, target, ignore=shutil.ignore_patterns("__pycache__", "static", "*.ttf")
            )
        else:
            shutil.copy(ROOT / place, target)
    (tmp_path / "console/src/pages").mkdir()
    return tmp_path


def new(copy: Path, *words: str, code: int = 0) -> list[str]:
    """The files it wrote."""
    done = subprocess.run(
        [sys.executable, str(ROOT / "script/lib/new.py"), *words], cwd=copy, capture_output=True, text=True
    )
    assert done.returncode == code, done.stderr
    return sorted({line.split()[1] for line in done.stdout.splitlines()})


def test_additions_touch_few_files_and_are_part_of_the_interface(copy: Path) -> None:
    written = {
        "endpoint": new(copy, "endpoint", "weather"),
        "job": new(copy, "job", "tidying"),
        "page": new(copy, "page", "weather"),
    }
    assert len(written["endpoint"]) == 5
    assert len(written["job"]) == 6
    assert len(written["page"]) == 2
    described = subprocess.run(
        [sys.executable, "-m", "plumcrate.api.openapi"],
        env=os.environ | {"PYTHONPATH": str(copy / "src")},
        capture_output=True,
        text=True,
        check=True,
    )
    document = json.loads(described.stdout)
    assert "get" in document["paths"]["/api/v1/libraries/{slug}/weather"]
    assert "post" in document["paths"]["/api/v1/libraries/{slug}/tidyings"]
    assert "tidying" in document["components"]["schemas"]["JobKind"]["enum"]
    assert 'path: "weather"' in (copy / "console/src/pages.tsx").read_text()


def test_nothing_that_is_there_is_written_over(copy: Path) -> None:
    before = (copy / "src/plumcrate/contract/runs.py").read_bytes()
    new(copy, "endpoint", "runs", code=1)
    new(copy, "endpoint", "Not a name", code=2)
    assert (copy / "src/plumcrate/contract/runs.py").read_bytes() == before
