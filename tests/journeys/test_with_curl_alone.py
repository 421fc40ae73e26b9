"""What the documentation says of curl is done as it stands there, on a service and a worker that run."""

from __future__ import annotations

import os
import re
import shutil
import subprocess
from pathlib import Path

import pytest
from conftest import Service, photograph

from plumcrate.contract.libraries import LibraryRequest

DOCUMENT = Path(__file__).parents[2] / "docs/developers.md"


@pytest.mark.skipif(shutil.which("curl") is None, reason="curl is not there")
def test_the_lines_of_the_documentation(service: Service, tmp_path: Path) -> None:
    found = re.search(r"<!-- run: curl -->\n```\n(.*?)```\n<!-- end of run -->", DOCUMENT.read_text(), re.S)
    assert found is not None
    (tmp_path / "site").mkdir()
    service.client.libraries.connect(
        LibraryRequest(name="Gannet Ledge", slug="gannet-ledge", root=str(tmp_path / "site"))
    )
    service.start_worker()
    place = tmp_path / "fresh"
    original = photograph(place / "photo.jpg", 640, 480)
    done = subprocess.run(
        ["bash", "-euo", "pipefail", "-c", found[1]],
        cwd=place,
        env={**os.environ, "PLUMCRATE_URL": service.url, "PLUMCRATE_KEY": service.key},
        capture_output=True,
        text=True,
        timeout=300,
        check=False,
    )
    assert done.returncode == 0, done.stderr
    assert "as it was, to the byte" in done.stdout
    light = (place / "photo.avif").read_bytes()
    assert light[4:12] == b"ftypavif"
    assert len(light) < len(original)
