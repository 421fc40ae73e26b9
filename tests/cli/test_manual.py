"""The manual page, the events in a terminal, and services that are chosen by name."""

from __future__ import annotations

import json
import shutil
import subprocess
from collections.abc import Callable
from pathlib import Path

import httpx
import pytest

from plumcrate.__main__ import operators_verbs
from plumcrate.cli import config
from plumcrate.cli.commands import happening
from plumcrate.cli.index import INDEX, names, with_more
from plumcrate.cli.main import main
from plumcrate.client import Client

RUN = {"id": 7, "library": "ledge", "state": "running", "done": 1, "passed": 0, "failed": 1, "files": 9}
ITEM = {"id": 3, "run_id": 7, "path": "a.jpg", "state": "failed", "reason": "the disk is full"}
JOB = {"id": 4, "library": "other", "kind": "check", "state": "finished"}


def test_the_manual_tells_of_every_command(capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["manual"], more=operators_verbs()) == 0
    page = capsys.readouterr().out
    for name in names(with_more(INDEX, operators_verbs())):
        assert f".B {name}".replace("-", "\\-") in page, name
    assert page.count("\n.SH ") >= 12
    if (groff := shutil.which("groff")) is not None:
        drawn = subprocess.run(
            [groff, "-man", "-Tutf8", "-K", "utf8", "-wmac"],
            input=page.encode(),
            capture_output=True,
            timeout=60,
            check=True,
        )
        assert b"PLUMCRATE(1)" in drawn.stdout


@pytest.fixture
def told(monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]) -> Callable[..., list[str]]:
    """The lines that ``events`` prints of three events."""
    body = "".join(
        f"event: {name}\nid: x-{n}\ndata: {json.dumps(data)}\n\n"
        for n, (name, data) in enumerate((("run", RUN), ("item", ITEM), ("job", JOB), ("missed", {})))
    )

    def answer(_: httpx.Request) -> httpx.Response:
        return httpx.Response(200, text=body, headers={"content-type": "text/event-stream"})

    monkeypatch.setattr(
        happening, "client", lambda: Client("http://x", "k", transport=httpx.MockTransport(answer))
    )

    def lines(*words: str) -> list[str]:
        assert main(["events", *words]) == 0
        return capsys.readouterr().out.splitlines()

    return lines


def test_events_are_lines(told: Callable[..., list[str]]) -> None:
    run, item, job = told()
    assert run.endswith("run 7 in ledge: running, 2 of 9 files, 1 failed")
    assert item.endswith("run 7: a.jpg failed: the disk is full")
    assert job.endswith("check 4 in other: finished")
    assert len(told("ledge")) == 1
    assert len(told("--run", "7")) == 2
    assert len(told("--most", "1")) == 1
    assert [json.loads(line)["event"] for line in told("--json")][:3] == ["run", "item", "job"]


def test_a_service_is_chosen_by_its_name(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / ".plumcrate.toml").write_text(
        'url = "http://one"\nkey = "k1"\n[services.harbour]\nurl = "http://two"\nkey = "k2"\n'
        "[services.broken]\nurl = 7\n"
    )
    inside = tmp_path / "inside"
    inside.mkdir()
    (inside / ".plumcrate.toml").write_text('url = "http://near"\nkey = "k3"\n')
    monkeypatch.chdir(inside)
    for name in ("PLUMCRATE_URL", "PLUMCRATE_KEY", "PLUMCRATE_SERVICE"):
        monkeypatch.delenv(name, raising=False)
    assert config.load() == config.Config("http://near", "k3")
    monkeypatch.setenv("PLUMCRATE_SERVICE", "harbour")
    assert config.load() == config.Config("http://two", "k2"), "in the nearest file that has it"
    monkeypatch.setenv("PLUMCRATE_URL", "http://elsewhere")
    monkeypatch.setenv("PLUMCRATE_KEY", "k4")
    assert config.load().key == "k2", "what is named is meant"
    for name, said in (
        ("nowhere", "no .plumcrate.toml has a service"),
        ("broken", "must hold both url and key"),
    ):
        monkeypatch.setenv("PLUMCRATE_SERVICE", name)
        with pytest.raises(config.ConfigError, match=said):
            config.load()
