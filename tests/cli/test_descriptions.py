"""What pictures say, from the command line: against a service that answers what it is told to."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import httpx
import pytest
from test_commands import Say, Service, job

from plumcrate.cli.commands import descriptions
from plumcrate.cli.main import main
from plumcrate.client import Client

ONE: dict[str, Any] = {
    "picture_id": 4,
    "library": "ledge",
    "path": "2026/lamp-room.jpg",
    "original_id": 9,
    "bytes_now": 900,
    "width": 300,
    "height": 200,
    "language": "en",
    "alternative": "IMG_2041",
    "title": "",
    "caption": "",
    "credit": "",
    "decorative": False,
    "version": 3,
    "by": "Ada",
    "at": None,
    "faults": [{"rule": "file-name", "text": "This is a file's name. Say what the picture shows."}],
    "suggestions": [{"field": "alternative", "text": "The lamp room", "source": "xmp-caption", "where": ""}],
    "uses": [
        {"page_id": 1, "address": "https://ledge.example/visit", "language": "en", "alternative": None},
        {"page_id": 2, "address": "https://ledge.example/", "language": "en", "alternative": ""},
    ],
    "terms": [],
}
SUMMARY = {
    "language": "en",
    "pictures": 9,
    "described": 5,
    "decorative": 1,
    "wanting": {"missing": 3, "file-name": 1, "doubled": 0},
    "pages": [
        {"page_id": 1, "address": "https://ledge.example/visit", "pictures": 4, "without": 2, "known": 1}
    ],
    "read": 7,
}
CHANGED = {
    "picture_id": 4,
    "path": "2026/lamp-room.jpg",
    "field": "alternative",
    "before": "",
    "after": "Lamp",
}


@pytest.fixture
def say(capsys: pytest.CaptureFixture[str]) -> Say:
    def run(*words: str, code: int = 0) -> str:
        assert main(list(words)) == code
        said = capsys.readouterr()
        return said.out + said.err

    return run


@pytest.fixture
def described(monkeypatch: pytest.MonkeyPatch) -> Service:
    service = Service()
    answers = httpx.MockTransport(service)
    monkeypatch.setattr(descriptions, "client", lambda: Client("http://x", "k", transport=answers))
    service.answers["GET", "/libraries/ledge/descriptions/summary"] = SUMMARY
    service.answers["GET", "/libraries/ledge/descriptions"] = {"rows": [ONE], "total": 1}
    service.answers["GET", "/pictures/4/descriptions"] = [ONE]
    service.answers["PUT", "/pictures/4/descriptions/en"] = ONE | {"alternative": "Lamp", "faults": []}
    return service


def sent(service: Service, method: str) -> list[Any]:
    return [body for sent_method, _, body, _ in service.sent if sent_method == method]


def test_what_is_wanting_is_listed(described: Service, say: Say) -> None:
    said = say("descriptions", "ledge", "--wanting", "missing", "--used")
    assert "Of 9 pictures 5 are described in en, 1 are decorative" in said
    assert "Wanting: 3 missing, 1 file-name." in said
    assert "1 weighed pages show 2 pictures without an alt attribute" in said
    assert "2026/lamp-room.jpg" in said


def test_one_picture_is_shown_and_described(described: Service, say: Say) -> None:
    said = say("describe", "ledge", "4")
    for part in ("file-name: This is a file's name", "The lamp room", "no alt attribute", "an empty alt"):
        assert part in said
    assert sent(described, "PUT") == []
    say("describe", "ledge", "4", "--alternative", "Lamp")
    assert sent(described, "PUT") == [
        {"alternative": "Lamp", "title": "", "caption": "", "credit": "", "decorative": False}
    ]
    say("describe", "ledge", "4", "--decorative")
    assert sent(described, "PUT")[-1]["alternative"] == "", "a decorative picture says nothing"
    assert "the library has no language de; it has en" in say(
        "describe", "ledge", "4", "--language", "de", code=2
    )


@pytest.mark.parametrize(
    ("words", "deed"),
    [
        (
            ("--accept", "xmp-caption, iptc-caption"),
            {"do": "accept", "sources": ["xmp-caption", "iptc-caption"], "only_empty": True},
        ),
        (
            ("--find", "tower", "--by", "lighthouse", "--whole-words", "--field", "title"),
            {
                "do": "replace",
                "find": "tower",
                "replacement": "lighthouse",
                "whole_words": True,
                "field": "title",
            },
        ),
        (("--fill", "{name}", "--over"), {"do": "fill", "pattern": "{name}", "only_empty": False}),
        (("--decorative", "no"), {"do": "mark", "decorative": False}),
    ],
)
def test_many_are_shown_first(
    described: Service, say: Say, words: tuple[str, ...], deed: dict[str, Any]
) -> None:
    path = "POST", "/libraries/ledge/descriptions/change"
    described.answers[path] = {"changed": 1, "unchanged": 8, "examples": [CHANGED], "change": None}
    said = say("describe-many", "ledge", "--wanting", "missing", *words)
    assert "1 descriptions would be changed, 8 stay as they are" in said
    assert "Nothing was saved: add --save" in said
    (body,) = sent(described, "POST")
    assert body["preview"] is True
    assert body["which"] == {"wanting": ["missing"]}
    assert deed.items() <= body["deed"].items()
    described.answers[path] = {"changed": 1, "unchanged": 8, "examples": [CHANGED], "change": 12}
    assert "plumcrate descriptions ledge --undo 12" in say("describe-many", "ledge", *words, "--save")


def test_an_unknown_source_is_refused(described: Service, say: Say) -> None:
    assert "there is no source tea" in say("describe-many", "ledge", "--accept", "tea", code=2)


def test_changes_are_listed_and_undone(described: Service, say: Say) -> None:
    change = {
        "id": 12,
        "language": "en",
        "what": "imported a file",
        "pictures": 3,
        "by": "Ada",
        "at": "2026-11-30T10:00:00Z",
        "undone_at": "2026-11-30T11:00:00Z",
    }
    described.answers["GET", "/libraries/ledge/description-changes"] = [change]
    assert "imported a file (undone)" in say("descriptions", "ledge", "--changes")
    described.answers["POST", "/libraries/ledge/description-changes/12/undo"] = {"undone": 3, "kept": 1}
    said = say("descriptions", "ledge", "--undo", "12")
    assert "3 descriptions are as they were before; 1 were changed again since" in said


def test_words_are_read_from_metadata(described: Service, say: Say) -> None:
    assert "The metadata of 7 was read" in say("words", "ledge")
    described.answers["POST", "/libraries/ledge/word-readings"] = described.end = job(
        "words", pictures=9, looked_at=2, with_words=1
    )
    said = say("words", "ledge", "--read")
    assert "2 of 9 pictures were read now: 1 say something of themselves, 0 could not be read" in said
    described.end = job("words", "failed", reason="the folder is away")
    assert "Reading has failed: the folder is away" in say("words", "ledge", "--read", code=1)


def test_files_go_out_and_come_in(described: Service, say: Say, tmp_path: Path) -> None:
    table, file, terms = tmp_path / "d.csv", tmp_path / "d.xlf", tmp_path / "terms.csv"
    described.answers["GET", "/libraries/ledge/descriptions/csv"] = {"csv": 1}
    described.answers["GET", "/libraries/ledge/descriptions/xliff"] = {"xliff": 1}
    say("words", "ledge", "--out", str(table))
    assert json.loads(table.read_text()) == {"csv": 1}
    assert "say with --into TAG" in say("words", "ledge", "--out", str(file), code=2)
    say("words", "ledge", "--out", str(file), "--into", "de")
    assert json.loads(file.read_text()) == {"xliff": 1}
    assert "cannot be written" in say("words", "ledge", "--out", str(tmp_path / "no/d.csv"), code=2)
    result = {
        "rows": 3,
        "changed": 1,
        "unchanged": 1,
        "refused": 1,
        "faults": [{"line": 4, "text": "there is no picture tea.jpg"}],
        "examples": [CHANGED],
        "notes": ["of 1 pictures the text in en has changed"],
        "changes": [],
    }
    for one, path in ((table, "csv"), (file, "xliff")):
        described.answers["PUT", f"/libraries/ledge/descriptions/{path}"] = result
        said = say("words", "ledge", "--in", str(one))
        assert "Of 3 rows 1 descriptions would be changed" in said
        assert "line 4: there is no picture tea.jpg" in said
        described.answers["PUT", f"/libraries/ledge/descriptions/{path}"] = result | {"changes": [7]}
        assert "--undo 7" in say("words", "ledge", "--in", str(one), "--save")
    terms.write_text("term,count\nlamp,3\n")
    described.answers["PUT", "/libraries/ledge/search-terms"] = {"terms": 1, "refused": 0}
    assert "1 search terms are kept" in say("words", "ledge", "--terms", str(terms))
    assert "cannot be read" in say("words", "ledge", "--in", str(tmp_path / "nowhere.csv"), code=2)
