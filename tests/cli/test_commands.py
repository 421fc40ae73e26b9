"""Commands against a service that is made up: what they send, what they say, as JSON and in words, and how
they end."""

import csv
import io
import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import httpx
import pytest

from plumcrate import imaging
from plumcrate.cli import main as entry
from plumcrate.cli.commands import (
    care,
    keeping,
    libraries,
    near_duplicates,
    pictures,
    recipes,
    runs,
    uploading,
)
from plumcrate.cli.commands.common import CommandResult, as_data, change_settings, shown
from plumcrate.cli.index import INDEX
from plumcrate.cli.main import main
from plumcrate.client import Client

NOW = "2026-06-01T12:00:00Z"
LIBRARY = {
    "slug": "ledge",
    "name": "Ledge",
    "root": "/srv/ledge",
    "recipe_version": 2,
    "level": "everyday",
    "copy_formats": ["webp", "avif"],
    "patterns": [],
    "automation": {},
    "created_at": NOW,
    "pictures": 12,
    "files": 34,
    "files_new": 2,
    "bytes_before": 10_000_000,
    "bytes_now": 5_000_000,
    "bytes_lightest": 4_000_000,
    "warnings": ["Backups are off."],
}
RUN = {
    "id": 7,
    "library": "ledge",
    "kind": "treat",
    "origin": "person",
    "state": "finished",
    "level": "lean",
    "copies": ["webp"],
    "scope": {},
    "files": 3,
    "done": 2,
    "passed": 0,
    "failed": 1,
    "left": 0,
    "already": 4,
    "left_out": 5,
    "elsewhere": 6,
    "bytes_before": 1000,
    "bytes_after": 400,
    "bytes_lightest": 300,
    "created_at": NOW,
}
ITEM = {
    "id": 1,
    "run_id": 7,
    "picture_id": 1,
    "file_id": 9,
    "path": "a.jpg",
    "state": "failed",
    "reason": "it hung",
}
WORST_PLACE = {"score": 71.2, "left": 0.25, "top": 0.5, "columns": 2, "lost": "000a1d05"}
PICTURE = {
    "id": 3,
    "library": "ledge",
    "path": "2025/kite.jpg",
    "name": "kite.jpg",
    "folder": "2025",
    "format": "jpeg",
    "width": 640,
    "height": 480,
    "state": "lighter",
    "files": 1,
    "bytes_before": 1000,
    "bytes_now": 500,
    "bytes_lightest": 400,
    "score": 80.1,
    "worst": 71.2,
    "original_id": 9,
}
DETAIL = PICTURE | {
    "all_files": [
        {
            "id": 9,
            "path": "2025/kite.jpg",
            "role": "original",
            "state": "lighter",
            "width": 640,
            "height": 480,
            "size_before": 1000,
            "size_now": 500,
            "score": 80.1,
            "worst_place": WORST_PLACE,
            "how": "step 80, 4:2:0",
            "derived": [
                {
                    "purpose": "copy",
                    "format": "avif",
                    "width": 640,
                    "height": 480,
                    "stands_in": True,
                    "path": "2025/kite.jpg.avif",
                    "size": 400,
                    "score": 80.4,
                    "worst_place": None,
                    "how": "q",
                }
            ],
        },
    ],
    "history": [
        {
            "id": 1,
            "at": NOW,
            "action": "replace",
            "path": "2025/kite.jpg",
            "bytes_before": 1000,
            "bytes_after": 500,
            "score": 80.1,
            "run_id": 7,
        }
    ],
}


def job(kind: str, state: str = "finished", **report: Any) -> dict[str, Any]:
    more = {name: report.pop(name) for name in ("reason", "run_id", "mend") if name in report}
    known = {"id": 5, "library": "ledge", "kind": kind, "state": state, "created_at": NOW}
    return known | {kind.replace("-", "_"): report} | more


OUTLOOK = {
    "files": 3,
    "bytes_before": 1000,
    "sampled_files": 2,
    "sampled_bytes": 600,
    "seconds": 4.0,
    "bytes_after": {"low": 400, "expected": 450, "high": 500},
    "bytes_lightest": {"low": 300, "expected": 350, "high": 400},
    "run_seconds": 200.4,
    "efforts": [
        {"effort": "quick", "run_seconds": 120, "bytes_after": 460, "bytes_lightest": 360},
        {"effort": "normal", "run_seconds": 200.4, "bytes_after": 450, "bytes_lightest": 350},
        {"effort": "thorough", "run_seconds": 5400, "bytes_after": 440, "bytes_lightest": 340},
    ],
}


def page(rows: list[Any]) -> dict[str, Any]:
    """Those rows as a whole list in one page."""
    return {"rows": rows, "total": len(rows), "cursor": None}


ANSWERS: dict[tuple[str, str], Any] = {
    ("GET", "/libraries"): [LIBRARY],
    ("POST", "/libraries"): LIBRARY,
    ("GET", "/libraries/ledge"): LIBRARY,
    ("PATCH", "/libraries/ledge"): LIBRARY,
    ("POST", "/libraries/ledge/surveys"): job("survey", "waiting"),
    ("POST", "/libraries/ledge/checks"): job("check", "waiting"),
    ("POST", "/libraries/ledge/forecasts"): job("forecast", "waiting"),
    ("POST", "/libraries/ledge/prunings"): job("pruning", "waiting"),
    ("GET", "/runs"): page([RUN]),
    ("POST", "/runs"): RUN,
    ("GET", "/runs/7"): RUN,
    ("POST", "/runs/7/pause"): RUN | {"state": "paused", "left": 2},
    ("GET", "/runs/7/items"): {"rows": [ITEM], "total": 1},
    ("GET", "/libraries/ledge/pictures"): {"rows": [PICTURE], "total": 1},
    ("GET", "/pictures/3"): DETAIL,
    ("PUT", "/pictures/3/override"): DETAIL | {"override": "leave"},
    ("GET", "/pictures/3/plan"): [
        {
            "path": "a.jpg",
            "rule": None,
            "verdict": "treat",
            "because": "the recipe decides",
            "level": "lean",
            "copies": ["avif"],
        }
    ],
    ("GET", "/libraries/ledge/backups"): {
        "backups": 9,
        "bytes": 900,
        "needed": 5,
        "bytes_needed": 500,
        "orphaned": 3,
        "bytes_orphaned": 300,
        "oldest_at": None,
        "folder": "/var/b",
        "bytes_free": 10_000,
    },
    ("GET", "/libraries/ledge/orphans"): {
        "rows": [{"id": 8, "path": "lost\x1b[2J.jpg", "size": 100, "created_at": NOW}],
        "total": 1,
    },
    ("POST", "/libraries/ledge/orphans/8/restore"): {
        "id": 8,
        "path": "lost.jpg",
        "size": 100,
        "created_at": NOW,
    },
    ("POST", "/libraries/ledge/reattach"): {"identified": True, "closed": 2, "gone": 1},
    ("GET", "/libraries/ledge/jobs"): page(
        [
            job("proof", run_id=6, originals_identical=99, verdict="incomplete"),
            job("proof", run_id=7, originals_identical=4, verdict="complete"),
        ]
    ),
    ("GET", "/libraries/ledge/savings"): {
        "library": "ledge",
        "pictures": 1,
        "copies": 2,
        "bytes_copies": 50,
        "bytes_backups": 100,
        **{
            name: {"name": name, "files": 1, "bytes_before": 10, "bytes_now": 5, "bytes_lightest": 4}
            for name in ("total", "treated")
        },
        **{
            name: [{"name": "", "files": 1, "bytes_before": 10, "bytes_now": 5, "bytes_lightest": 4}]
            for name in ("by_format", "by_role", "by_folder", "by_month")
        },
    },
    ("GET", "/machine"): {
        "verdict": "broken",
        "lines": [
            {"what": "database", "verdict": "broken", "detail": "away", "todo": "start it"},
            {"what": "WebP", "verdict": "fine", "detail": "1.5"},
        ],
    },
    ("GET", "/libraries/ledge/recipe"): {
        "library": "ledge",
        "version": 2,
        "by": "keeper",
        "created_at": NOW,
        "settings": {
            "level": "lean",
            "rules": [
                {"name": "logos", "when": {"folder": "logos"}, "how": {"level": "exact", "copies": []}},
                {"name": "press", "when": {"name": "*.png"}, "leave": True},
            ],
        },
    },
    ("POST", "/libraries/ledge/recipe/effect"): {
        "files": 9,
        "new": 1,
        "again": 2,
        "settled": 3,
        "left_out": 2,
        "without_backup": 1,
        "by_rule": {"logos": 4},
    },
    ("POST", "/libraries/ledge/hook-secret"): {"url": "http://x/hooks/ledge", "secret": "whsec_x"},
}


class Service:
    """Answers as the table says; ``ends`` are jobs as they are at their end, by their kind."""

    def __init__(self) -> None:
        self.answers = dict(ANSWERS)
        self.sent: list[tuple[str, str, Any, dict[str, str]]] = []
        self.end: dict[str, Any] = {}

    def __call__(self, request: httpx.Request) -> httpx.Response:
        path = request.url.path.removeprefix("/api/v1")
        if path == "/events":
            return httpx.Response(200, headers={"content-type": "text/event-stream"})
        body = json.loads(request.content) if request.content[:1] in (b"{", b"[") else None
        self.sent.append((request.method, path, body, dict(request.url.params)))
        if path == "/jobs/5":
            return httpx.Response(200, json=self.end)
        answer = self.answers.get((request.method, path))
        if answer is None:
            problem = {
                "type": "urn:plumcrate:problem:not-found",
                "title": "There is no such thing",
                "status": 404,
            }
            return httpx.Response(404, json=problem)
        return httpx.Response(200, json=answer) if answer != "" else httpx.Response(204)

    @property
    def last_body(self) -> Any:
        return [body for method, _, body, _ in self.sent if body is not None][-1]


@pytest.fixture
def service(monkeypatch: pytest.MonkeyPatch) -> Service:
    made = Service()
    for module in (care, keeping, libraries, near_duplicates, pictures, recipes, runs, uploading):
        monkeypatch.setattr(
            module, "client", lambda: Client("http://x", "k", transport=httpx.MockTransport(made))
        )
    return made


Say = Callable[..., str]


@pytest.fixture
def say(capsys: pytest.CaptureFixture[str]) -> Say:
    def run(*words: str, code: int = 0) -> str:
        assert main(list(words)) == code
        said = capsys.readouterr()
        return said.out + said.err

    return run


@pytest.mark.parametrize(
    ("words", "parts"),
    [
        (("libraries",), ("ledge", "34", "10.0 MB", "−50 %")),
        (
            ("connect", "/srv/ledge"),
            ("Connected /srv/ledge", "files keep: rights", "Next: plumcrate survey ledge"),
        ),
        (("runs",), ("treat lean", "finished", "−60 %")),
        (("list", "ledge", "--sort", "worst"), ("2025/kite.jpg", "80.1", "71.2", "1 of 1 pictures")),
        (("show", "ledge", "3"), ("640 x 480", "71 at 25%, 50%", "avif copy", "step 80", "run 7")),
        (("plan", "ledge", "3"), ("the recipe decides", "avif")),
        (("override", "ledge", "3", "leave"), ("is left alone for ever",)),
        (
            ("backups", "ledge"),
            ("9 backups", "5 of them", "3 (300 B) lost", "1 (100 B) are not needed", "10.0 kB free"),
        ),
        (("orphans", "ledge"), ("lost\\x1b[2J.jpg", "1 of 1")),
        (("rescue", "ledge", "8"), ("lost.jpg is in the library again",)),
        (("reattach", "ledge", "--confirm", "ledge"), ("identity file again", "2 changes", "1 files")),
        (("savings", "ledge"), ("1 pictures", "2 copies", "top folder")),
        (("recipe", "ledge"), ("version 2, saved by keeper", "logos", "copies none", "leave alone")),
        (
            ("recipe", "ledge", "--set", "level=gallery"),
            ("2 made again", "1 were changed before", "4 files", "add --save"),
        ),
        (("automation", "ledge"), ("new_files", "! Backups are off.")),
        (("hook-secret", "ledge"), ("http://x/hooks/ledge", "whsec_x", "shown this once")),
        (("pause", "7"), ("Run 7 is paused; 2 files left",)),
        (("run", "ledge", "--no-wait"), ("Run 7 has started", "plumcrate watch 7")),
    ],
)
def test_what_commands_say(
    service: Service, say: Say, words: tuple[str, ...], parts: tuple[str, ...]
) -> None:
    said = say(*words)
    for part in parts:
        assert part in said, said


@pytest.mark.parametrize(
    "words",
    [
        ("libraries",),
        ("connect", "/srv/ledge"),
        ("runs",),
        ("list", "ledge"),
        ("show", "ledge", "3"),
        ("plan", "ledge", "3"),
        ("backups", "ledge"),
        ("orphans", "ledge"),
        ("savings", "ledge"),
        ("recipe", "ledge"),
        ("automation", "ledge"),
        ("hook-secret", "ledge"),
        ("run", "ledge", "--no-wait"),
    ],
)
def test_every_command_prints_one_json_document_when_asked(
    service: Service, say: Say, words: tuple[str, ...]
) -> None:
    assert json.loads(say(*words, "--json")) is not None


def test_commands_return_values_and_print_nothing(
    service: Service, capsys: pytest.CaptureFixture[str]
) -> None:
    options = entry.build_parser(INDEX, "libraries").parse_args(["libraries"])
    outcome = options.command(options)
    assert isinstance(outcome, CommandResult)
    assert as_data(outcome.value)[0]["slug"] == "ledge"  # type: ignore[index]
    assert capsys.readouterr().out == ""


def test_what_is_connected_says_what_stays_and_what_is_written(service: Service, say: Say) -> None:
    say(
        "connect",
        "site",
        "--name",
        "Ledge",
        "--copies",
        "avif",
        "--metadata",
        "rights,time",
        "--level",
        "lean",
    )
    sent = service.last_body
    assert sent["root"] == str(Path("site").absolute())
    assert (sent["copies"], sent["metadata"], sent["level"]) == (["avif"], ["rights", "time"], "lean")
    say("connect", "site", "--copies", "none", "--metadata", "all")
    assert (service.last_body["copies"], len(service.last_body["metadata"])) == ([], 5)


@pytest.mark.parametrize("words", [("--copies", "bmp"), ("--metadata", "everything"), ("--level", "best")])
def test_words_that_nobody_knows_are_refused_before_anything_is_sent(
    service: Service, capsys: pytest.CaptureFixture[str], words: tuple[str, ...]
) -> None:
    with pytest.raises(SystemExit) as ended:
        main(["connect", "site", *words])
    assert ended.value.code == 2
    assert words[1] in capsys.readouterr().err
    assert service.sent == []


def test_all_that_a_run_is_asked_for_is_sent(service: Service, say: Say) -> None:
    say(
        "run",
        "ledge",
        "--no-wait",
        "--folder",
        "2025",
        "--picture",
        "2025/kite.jpg",
        "--untreated",
        "--copies",
        "webp",
    )
    asked = [params for method, path, _, params in service.sent if path.endswith("/pictures")]
    assert asked == [{"path": "2025/kite.jpg"}], "found by its path, not among the first 500 that contain it"
    assert service.last_body["scope"] == {
        "folder": "2025",
        "pictures": [3],
        "untreated": True,
        "run": None,
        "failed_of": None,
        "which": None,
    }
    assert service.last_body["copies"] == ["webp"]
    say("run", "ledge", "--no-wait", "--saving", "none", "--format", "png", "--format", "gif")
    assert service.last_body["scope"]["which"] == {"saving": ["none"], "format": ["png", "gif"]}
    say("run", "ledge", "--no-wait", "--folder", "2025", "--failed-of", "4")
    assert (service.last_body["scope"]["folder"], service.last_body["scope"]["failed_of"]) == ("2025", 4)
    said = say("run", "ledge", "--picture", "a.jpg", "--failed-of", "4", code=2)
    assert "give one of pictures, run and failed_of" in said


def test_a_picture_that_is_not_there_ends_the_command(service: Service, say: Say) -> None:
    service.answers["GET", "/libraries/ledge/pictures"] = {"rows": [], "total": 0}
    assert "ledge has no picture nowhere.jpg" in say("show", "ledge", "nowhere.jpg", code=2)


def test_a_run_is_followed_to_its_end_and_its_failures_are_listed(service: Service, say: Say) -> None:
    said = say("run", "ledge", code=1)
    for part in (
        "Run 7 has finished: 2 files done",
        "4 already treated",
        "5 are left alone",
        "6 are left to another",
        "✗ a.jpg: it hung",
        "plumcrate retry 7",
    ):
        assert part in said
    assert json.loads(say("watch", "--json", code=1))["id"] == 7
    service.answers["GET", "/runs"] = page([])
    assert "There has been no run yet" in say("watch")


@pytest.mark.parametrize(
    ("words", "end", "parts", "code"),
    [
        (
            ("survey", "ledge"),
            job("survey", pictures=2, files_seen=5, notes=["a.svg: left"]),
            ("2 pictures in 5 files", "a.svg: left"),
            0,
        ),
        (("survey", "ledge"), job("survey", "failed", reason="not mounted"), ("has failed: not mounted",), 1),
        (
            ("verify", "ledge"),
            job("check", files=3, copies=2, backups=3),
            ("Read 3 treated files", "all as recorded"),
            0,
        ),
        (
            ("verify", "ledge"),
            job(
                "check",
                files=3,
                differences=2,
                mended=1,
                findings=[{"what": "x", "path": "a.jpg", "detail": "it is gone", "mended": True}],
            ),
            ("2 differences, 1 mended", "✓ a.jpg", "plumcrate verify ledge --mend"),
            1,
        ),
        (("verify", "ledge"), job("check", "stopped"), ("The check has stopped",), 1),
        (
            ("forecast", "ledge"),
            job("forecast", outlook=OUTLOOK),
            (
                "3 files of 1.00 kB",
                "450 B",
                "−55 %",
                "300 B and 400 B",
                "would take about 3 min 20 s here",
                "quick",
                "2 min 00 s",
                "360 B",
                "1 h 30 min",
            ),
            0,
        ),
        (("forecast", "ledge"), job("forecast", "failed", reason="away"), ("has failed: away",), 1),
        (
            ("prune", "ledge", "--confirm", "ledge"),
            job("pruning", backups=4, bytes=400, needed=1, left=2),
            ("Deleted 4 backups, 400 B", "1 of them were the only original", "2 stay"),
            0,
        ),
        (
            ("prune", "ledge", "--confirm", "ledge"),
            job("pruning", "failed", reason="the store is away"),
            ("the store is away",),
            1,
        ),
    ],
)
def test_jobs_are_followed_to_their_end(
    service: Service, say: Say, words: tuple[str, ...], end: dict[str, Any], parts: tuple[str, ...], code: int
) -> None:
    service.end = end
    said = say(*words, code=code)
    for part in parts:
        assert part in said, said
    assert json.loads(say(*words, "--json", code=code))["state"] == end["state"]


def test_a_run_is_predicted_where_a_forecast_has_said_how_long(service: Service, say: Say) -> None:
    service.answers["GET", "/libraries/ledge/jobs"] = page(
        [
            job("forecast", "failed"),
            job("forecast", outlook=OUTLOOK),
        ]
    )
    told = "The whole library takes about 3 min 20 s here, by the forecast of"
    assert told in say("run", "ledge", code=1)
    for words in (
        ("--folder", "2025"),
        ("--level", "lean"),
        ("--copies", "none"),
        ("--untreated",),
        ("--json",),
    ):
        assert told not in say("run", "ledge", *words, code=1), words
    service.answers["GET", "/libraries/ledge/jobs"] = page([])
    assert "The whole library takes" not in say("run", "ledge", code=1)


def test_renditions_are_looked_for_proposed_and_answered(service: Service, say: Say) -> None:
    pair = {"path": "made/aa.webp", "original": "up/0.jpg"}
    looked = job("resemblance", files=9, looked_at=9, found=2, plain=1)
    service.answers["POST", "/libraries/ledge/resemblances"] = service.end = looked
    service.answers["GET", "/libraries/ledge/proposals"] = [
        {"folder": "made", "renditions": 2, "others": 1, "examples": [pair]}
    ]
    said = say("renditions", "ledge", "--look")
    assert "9 files that count as originals were compared: 2 show the same as a larger one" in said
    assert "aa.webp of up/0.jpg" in said
    service.answers["POST", "/libraries/ledge/proposals"] = ""
    service.answers["GET", "/libraries/ledge/proposals"] = []
    said = say("renditions", "ledge", "--accept", "made/", "--dismiss", ".", "--dismiss", ".odd.")
    assert "made/: its proposals are renditions now" in said
    assert "Nothing is proposed. --look compares all pictures." in said
    answered = [
        body for method, path, body, _ in service.sent if (method, path[-9:]) == ("POST", "proposals")
    ]
    assert [(one["folder"], one["accept"]) for one in answered] == [
        ("made", True),
        ("", False),
        (".odd.", False),
    ]
    service.end = job("resemblance", "failed", reason="the folder is away")
    assert "failed: the folder is away" in say("renditions", "ledge", "--look", code=1)


ALIKE = {"identical": False, "scale": 0.5, "turn": 0.0, "part": 0.6, "alike": 0.99}
OTHER = {
    "picture_id": 3,
    "file_id": 4,
    "path": "2025/kite.jpg",
    "format": "jpeg",
    "width": 320,
    "height": 240,
    "files": 1,
    "bytes": 9_000,
    "shows": ALIKE,
    "pages": ["https://ledge.example/"],
    "redirect": None,
}
LARGEST = OTHER | {"picture_id": 1, "path": "kite.png", "largest": True, "shows": None, "pages": []}


@pytest.mark.parametrize(
    ("more", "said"),
    [
        ({}, "60% of it, at 50%"),
        ({"shows": ALIKE | {"identical": True}}, "the same bytes"),
        ({"shows": ALIKE | {"part": 1.0, "scale": 1.0, "turn": 90.0}}, "turned by 90°"),
        ({"shows": ALIKE | {"part": 1.0, "scale": 1.0}}, "the same, saved anew"),
        ({"shows": None}, "resembles others of the group"),
        ({"redirect": 1}, "answered with 1"),
    ],
)
def test_near_duplicates_say_how_they_show_the_same(
    service: Service, say: Say, more: dict[str, Any], said: str
) -> None:
    group = {"id": 1, "pictures": [LARGEST, OTHER | more], "bytes": 18_000, "spare": 9_000, "pages": []}
    service.answers["GET", "/libraries/ledge/near-duplicates"] = {
        "rows": [group],
        "total": 1,
        "pictures": 2,
        "spare": 9_000,
    }
    shown = say("near-duplicates", "ledge")
    assert said in shown
    assert "1 group of 2 pictures; 9.00 kB beyond the largest." in shown


def test_near_duplicates_are_looked_for_kept_apart_and_redirected(service: Service, say: Say) -> None:
    none = {"rows": [], "total": 0, "pictures": 0, "spare": 0}
    service.answers["GET", "/libraries/ledge/near-duplicates"] = none
    assert "--look looks for them" in say("near-duplicates", "ledge")
    looked = job("near-duplicates", pictures=9, looked_at=4, unreadable=1)
    service.answers["POST", "/libraries/ledge/near-duplicate-searches"] = service.end = looked
    assert "4 of 9 pictures were new or changed" in say("near-duplicates", "ledge", "--look")
    service.end = job("near-duplicates", "failed", reason="the folder is away")
    assert "failed: the folder is away" in say("near-duplicates", "ledge", "--look", code=1)
    say("near-duplicates", "ledge", "--limit", "0", code=2)
    service.answers["PUT", "/pictures/3/kept-apart"] = service.answers["DELETE", "/pictures/3/redirect"] = ""
    assert "3 is kept out of all groups." in say("near-duplicates", "ledge", "--apart", "3")
    assert "3 may be grouped again." in say("near-duplicates", "ledge", "--group", "3")
    redirected = {"picture_id": 3, "to": 1, "to_path": "kite.png", "by": "keeper"}
    service.answers["PUT", "/pictures/3/redirect"] = redirected
    assert "Whoever asks for 3 gets kite.png" in say("redirect", "ledge", "3", "--to", "1")
    assert "3 is answered with itself." in say("redirect", "ledge", "3", "--end")
    bodies = [body for method, path, body, _ in service.sent if method == "PUT"]
    assert bodies == [{"apart": True}, {"apart": False}, {"picture_id": 1}]


@pytest.mark.parametrize("command", ["prune", "reattach", "hand-back"])
def test_what_cannot_be_undone_is_said_twice(service: Service, say: Say, command: str) -> None:
    assert f"plumcrate {command} ledge --confirm ledge" in say(command, "ledge", code=2)
    assert service.sent == []


def test_a_hand_back_reads_its_own_proof(service: Service, say: Say, tmp_path: Path) -> None:
    handed = RUN | {"kind": "hand-back", "failed": 0, "level": None}
    service.answers["POST", "/runs"] = service.answers["GET", "/runs/7"] = handed
    said = say("hand-back", "ledge", "--confirm", "ledge")
    assert "4 originals are byte for byte" in said
    assert "The hand-back is complete." in said
    service.answers["GET", "/runs/7/checksums"] = {"sums": 4}
    say("hand-back", "ledge", "--confirm", "ledge", "--checksums", str(tmp_path / "sums"))
    assert "sums" in (tmp_path / "sums").read_text()
    nowhere = str(tmp_path / "nowhere/sums")
    assert "handed back" in say("hand-back", "ledge", "--confirm", "ledge", "--checksums", nowhere, code=2)
    service.answers["GET", "/libraries/ledge/jobs"] = page([job("proof", run_id=6, verdict="complete")])
    assert "not proved" in say("hand-back", "ledge", "--confirm", "ledge", code=1)


def test_the_doctor_says_what_to_do_and_ends_so(service: Service, say: Say) -> None:
    said = say("doctor", code=1)
    for part in ("✗ database", "start it", "✓ WebP", "Something is missing."):
        assert part in said


@pytest.mark.parametrize(
    ("change", "said"),
    [("nonsense=1", "there is no setting nonsense"), ("hours=22h", "are no hours"), ("share=1000", "share")],
)
def test_automation_that_makes_no_sense_is_refused(
    service: Service, say: Say, change: str, said: str
) -> None:
    assert said in say("automation", "ledge", "--set", change, code=2)
    assert service.sent == []


def test_automation_is_changed_setting_by_setting(service: Service, say: Say) -> None:
    say("automation", "ledge", "--set", "watch=true", "--set", "hours=22:00-06:00,12:00-13:00")
    assert service.last_body == {"automation": {"watch": True, "hours": ["22:00-06:00", "12:00-13:00"]}}


def test_a_recipe_from_a_file_is_tried_and_saved(service: Service, say: Say, tmp_path: Path) -> None:
    file = tmp_path / "recipe.json"
    file.write_text('{"level": "lean", "copies": ["avif"]}')
    say("recipe", "ledge", "--from", str(file))
    assert service.last_body["copies"] == ["avif"]
    assert "there is no setting webp" in say("recipe", "ledge", "--set", "webp=false", code=2)
    file.write_text('{"level": "best"}')
    assert "level" in say("recipe", "ledge", "--from", str(file), code=2)
    assert "No such file" in say("recipe", "ledge", "--from", str(tmp_path / "none"), code=2)
    service.answers["GET", "/libraries/ledge/recipes"] = page([ANSWERS["GET", "/libraries/ledge/recipe"]])
    assert "ledge has no version 9" in say("recipe", "ledge", "--version", "9", code=2)


def test_what_the_service_refuses_and_its_absence_have_codes_of_their_own(
    service: Service, say: Say, monkeypatch: pytest.MonkeyPatch
) -> None:
    assert "There is no such thing" in say("savings", "nowhere", code=4)

    def refuse(request: httpx.Request) -> httpx.Response:
        raise httpx.ConnectError("refused", request=request)

    monkeypatch.setattr(
        libraries, "client", lambda: Client("http://x", "k", transport=httpx.MockTransport(refuse))
    )
    assert "does not answer" in say("libraries", code=3)


def _uploaded(path: str, state: str) -> dict[str, Any]:
    answer = {"path": path, "picture_id": 1, "file_id": 1, "run_id": 1, "state": state, "reason": "no"}
    return answer | {"size_before": 10, "size_now": 5}


def test_an_upload_says_how_far_it_is(service: Service, say: Say, tmp_path: Path) -> None:
    file = tmp_path / "kite.jpg"
    file.write_bytes(b"x")
    for state, part, code in (("light", "copies follow", 0), ("failed", "could not be treated: no", 1)):
        service.answers["PUT", "/libraries/ledge/files/2025/kite.jpg"] = _uploaded("2025/kite.jpg", state)
        assert part in say("upload", "ledge", str(file), "--as", "2025/kite.jpg", code=code)
    assert "No such file" in say("upload", "ledge", str(tmp_path / "none.jpg"), code=2)


def test_many_uploads_are_answered_one_by_one(service: Service, say: Say, tmp_path: Path) -> None:
    files = [tmp_path / name for name in ("kite.jpg", "tern.jpg")]
    for file in files:
        file.write_bytes(b"x")
    service.answers["PUT", "/libraries/ledge/files/2025/kite.jpg"] = _uploaded("2025/kite.jpg", "done")
    said = say("upload", "ledge", *map(str, files), "--into", "2025/", "--replace", code=1)
    assert "2025/kite.jpg is treated" in said
    assert "2025/tern.jpg was not uploaded" in said
    told = json.loads(say("upload", "ledge", *map(str, files), "--into", "2025", "--json", code=1))["files"]
    assert [one["path"] for one in told] == ["2025/kite.jpg", "2025/tern.jpg"]
    assert (told[0]["uploaded"]["state"], told[0]["problem"], told[1]["uploaded"]) == ("done", None, None)
    assert "--into" in say("upload", "ledge", *map(str, files), "--as", "one.jpg", code=2)


def test_an_upload_is_only_tried(service: Service, say: Say, tmp_path: Path) -> None:
    file = tmp_path / "kite.jpg"
    file.write_bytes(b"x" * 1000)
    output = {"role": "file", "format": "jpeg", "verdict": "chosen", "reason": "smaller", "size": 400}
    service.answers["POST", "/libraries/ledge/upload-trial"] = {
        "path": "kite.jpg",
        "taken": True,
        "role": "original",
        "rule": None,
        "because": "the recipe decides",
        "level": "everyday",
        "format": "jpeg",
        "width": 640,
        "height": 480,
        "size": 1000,
        "outputs": [output | {"score": 81.5, "how": "quality 70", "data": None}],
    }
    said = say("upload", "ledge", str(file), "--try")
    for part in (
        "640 × 480",
        "the recipe decides",
        "--replace",
        "400 B",
        "−60 %",
        "81.5",
        "Nothing was written",
    ):
        assert part in said
    assert not [line for line in service.sent if line[0] == "PUT"]
    told = json.loads(say("upload", "ledge", str(file), str(file), "--try", "--json"))["files"]
    assert [one["trial"]["taken"] for one in told] == [True, True]


def test_rows_are_written_as_csv(service: Service, say: Say, tmp_path: Path) -> None:
    rows = list(csv.DictReader(io.StringIO(say("libraries", "--csv", "-"))))
    assert [(row["slug"], row["pictures"]) for row in rows] == [("ledge", "12")]
    assert json.loads(rows[0]["patterns"]) == []
    say("list", "ledge", "--csv", str(tmp_path / "list.csv"))
    written = list(csv.DictReader((tmp_path / "list.csv").open(newline="")))
    assert [row["path"] for row in written] == ["2025/kite.jpg"]
    service.answers["GET", "/runs"] = page([])
    heading = say("runs", "--csv", "-")
    assert heading.count("\n") == 1, "no rows are a heading alone"
    assert heading.startswith('"id"')
    assert "No such file or directory" in say("runs", "--csv", str(tmp_path / "none/runs.csv"), code=2)


def test_a_trial_writes_what_was_chosen_and_leaves_the_files(say: Say, tmp_path: Path) -> None:
    from conftest import photograph

    data = photograph(tmp_path / "kite.jpg", quality=97)
    (tmp_path / "odd.jpg").write_bytes(b"not a picture")
    out = tmp_path / "out"
    said = say(
        "trial",
        str(tmp_path / "kite.jpg"),
        str(tmp_path / "odd.jpg"),
        "--out",
        str(out),
        "--copies",
        "webp",
        "--json",
        code=1,
    )
    kite, odd = json.loads(said)["files"]
    assert "reason" in odd
    roles = {output["role"]: output for output in kite["outputs"]}
    assert set(roles) == {"file", "copy"}
    assert roles["file"]["worst"] >= 71.5
    assert (tmp_path / "kite.jpg").read_bytes() == data
    written = (out / "kite.jpg").read_bytes()
    assert len(written) == roles["file"]["size"] < len(data)
    assert imaging.score(data, written) == pytest.approx(roles["file"]["score"], abs=0.05)
    assert "cannot be made" in say(
        "trial", str(tmp_path / "kite.jpg"), "--out", str(tmp_path / "kite.jpg" / "x"), code=2
    )


@pytest.mark.parametrize("value", [True, False, None, [], ["22:00-06:00"], [1, 2], 3, "at-once", 0.5])
def test_what_is_shown_of_a_setting_can_be_written(value: object) -> None:
    former: dict[str, object] = {"name": value if isinstance(value, list) else None}
    change_settings(former, [f"name={shown(value)}"])
    assert former["name"] == value
