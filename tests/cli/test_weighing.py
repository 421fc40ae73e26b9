"""weigh, weights, page-settings and treat-page against a service that is made up."""

from __future__ import annotations

import contextlib
import io
import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from test_commands import NOW, RUN, Service, job

from plumcrate.cli.commands import weighing
from plumcrate.cli.commands.common import WrongCommand
from plumcrate.cli.commands.weighing import budget_of
from plumcrate.cli.main import main
from plumcrate.client import Client


def spread(median: float) -> dict[str, float]:
    return {"median": median, "low": median * 0.9, "high": median * 1.1}


PICTURE = {
    "number": 1,
    "address": "https://ledge.example/media/kite\x1b[2J.jpg",
    "how": "img",
    "format": "jpeg",
    "bytes": 500_000,
    "natural_width": 2000,
    "natural_height": 1000,
    "needed_width": 800,
    "needed_height": 400,
    "box": {"left": 0, "top": 0, "width": 800, "height": 400},
    "first_view": True,
    "lazy": False,
    "stated": True,
    "largest_paint": True,
    "library": "ledge",
    "path": "2025/kite.jpg",
    "seen": {"score": 88.4, "worst": 70, "left": 0.5, "top": 0.5},
}


def reading(pictures: int, **more: Any) -> dict[str, Any]:
    values = {
        "device": "phone",
        "line": "mobile",
        "processor": "slow",
        "passes": 3,
        "landed": "https://ledge.example/",
        "bytes": spread(pictures + 40_000),
        "first_bytes": spread(pictures),
        "requests": spread(12),
        "ttfb": spread(0.1),
        "fcp": spread(0.4),
        "lcp": spread(2.4),
        "cls": spread(0.02),
        "load": spread(3.0),
        "largest_paint": "h1: “Ledge”",
        "kinds": [
            {"name": "pictures", "requests": 4, "bytes": pictures},
            {"name": "page", "requests": 1, "bytes": 40_000},
        ],
        "pictures": [PICTURE],
        "width": 412,
        "height": 3000,
        "notes": ["it opens dialogs: they were dismissed"],
    }
    return values | more


def one(number: int, **more: Any) -> dict[str, Any]:
    return {
        "id": number,
        "library": "ledge",
        "page_id": 4,
        "address": "https://ledge.example/",
        "kind": "real",
        "origin": "person",
        "at": NOW,
        "readings": [reading(1_000_000)],
    } | more


FINDING = {
    "code": "too-large",
    "device": "phone",
    "pictures": [1, 2],
    "text": "it has 6.2 times the pixels",
    "action": "Make a size.",
    "bytes": 300_000,
    "seconds": 0.5,
}
PAGE = {
    "id": 4,
    "library": "ledge",
    "address": "https://ledge.example/",
    "weighings": 3,
    "has_secrets": True,
    "budget": {"bytes": 400_000},
    "schedule": "5 4 * * *",
    **{
        name: [
            {
                "weighing_id": 1,
                "at": NOW,
                "kind": "real",
                "device": "phone",
                "bytes": size,
                "pictures": size,
                "requests": 3,
                "lcp": lcp,
                "cls": 0,
            }
        ]
        for name, size, lcp in (("first", 1_000_000, 2.4), ("latest", 300_000, None))
    },
}


@pytest.fixture
def service(monkeypatch: pytest.MonkeyPatch) -> Service:
    import httpx

    found = Service()
    transport = httpx.MockTransport(found)
    monkeypatch.setattr(weighing, "client", lambda: Client("http://x", "plumkey-x", transport=transport))
    found.answers |= {
        ("POST", "/libraries/ledge/weighings"): job("weighing", "waiting"),
        ("GET", "/weighings/1"): one(1, findings=[FINDING]),
        ("GET", "/weighings/2"): one(
            2, kind="predicted", what_if={"level": "lean"}, readings=[reading(250_000)]
        ),
        ("GET", "/libraries/ledge/site-pages"): [PAGE],
        ("PUT", "/libraries/ledge/site-pages"): PAGE,
        ("GET", "/site-pages/4/history"): [PAGE["first"][0], PAGE["latest"][0] | {"kind": "predicted"}],
        ("POST", "/weighings/1/run"): RUN,
    }
    found.end = job("weighing", weighings=[1, 2], notes=["the first 2 of 9 pages are weighed"])
    return found


@pytest.fixture
def said(service: Service, capsys: pytest.CaptureFixture[str]) -> Callable[..., str]:
    def run(*arguments: str, code: int = 0) -> str:
        assert main(list(arguments)) == code
        got = capsys.readouterr()
        return got.out + got.err

    return run


def test_what_a_page_weighs_and_would_weigh_is_told_in_words(said: Callable[..., str]) -> None:
    text = said("weigh", "ledge", "/", "--what-if", "lean", "--pictures")
    for words in (
        "the first 2 of 9 pages are weighed",
        "as it is  (1)",
        "what if: at lean  (2)",
        "phone, mobile line, slow processor",
        "1.04 MB in 12 requests; 1.00 MB of it before anybody scrolls",
        "290 kB in 12 requests, instead of 1.04 MB (−72 %)",
        "largest paint 2.40 s (2.16 to 2.64)",
        "jumps by 0.020; medians of 3",
        "largest paint: h1: “Ledge”",
        "−300 kB and 0.5 s",
        "pictures 1, 2: it has 6.2 times the pixels",
        "Make a size.",
        "2000×1000",
        "800×400",
        "88.4",
        "it opens dialogs",
    ):
        assert words in text, words
    assert "\x1b[2J" not in text


def test_what_is_asked_is_sent(said: Callable[..., str], service: Service) -> None:
    said(
        "weigh",
        "ledge",
        "/",
        "/visit",
        "--device",
        "phone",
        "--line",
        "weak",
        "--processor",
        "middling",
        "--passes",
        "5",
        "--what-if",
        "recipe",
        "--what-if",
        "gallery",
        "--fit",
        "--own-markup",
        "--budget",
        "bytes=400kB,lcp=2500ms",
        "--no-wait",
    )
    body = service.last_body
    assert (body["addresses"], body["devices"], body["line"], body["processor"], body["passes"]) == (
        ["/", "/visit"],
        ["phone"],
        "weak",
        "middling",
        5,
    )
    assert [(each["level"], each["fit"], each["markup"]) for each in body["what_if"]] == [
        (None, True, False),
        ("gallery", True, False),
    ]
    assert (body["budget"]["bytes"], body["budget"]["lcp"]) == (400_000, 2.5)
    assert "name a page" in said("weigh", "ledge", code=2)
    assert "is no level" in said("weigh", "ledge", "/", "--what-if", "strong", code=2)
    assert "in a browser, not from the markup" in said(
        "weigh", "ledge", "/", "--plain", "--what-if", "lean", code=2
    )


def test_a_pipeline_is_told_by_the_exit_code(said: Callable[..., str], service: Service) -> None:
    over = [
        {"device": "phone", "name": "bytes", "allowed": 400_000, "found": 1_040_000},
        {"device": "phone", "name": "lcp", "allowed": 1.0, "found": None},
    ]
    service.answers["GET", "/weighings/1"] = one(1, budget={"bytes": 400_000}, over=over)
    text = said("weigh", "ledge", "/", code=1)
    assert "over budget on phone: bytes 1.04 MB, allowed 400 kB" in text
    assert "lcp could not be measured, allowed 1.00 s" in text
    service.answers["GET", "/weighings/1"] = one(1, budget={"bytes": 9_000_000})
    assert "within its budget" in said("weigh", "ledge", "/")
    service.answers["GET", "/weighings/2"] = one(
        2, readings=[], code="no-answer", fault="the site does not answer"
    )
    assert "could not be weighed: the site does not answer" in said("weigh", "ledge", "/", code=1)
    service.end = job("weighing", "failed", reason="the list names no page")
    assert "has failed: the list names no page" in said("weigh", "ledge", "/", code=1)


def test_pages_and_their_history_are_listed(said: Callable[..., str], service: Service) -> None:
    text = said("weights", "ledge")
    for words in ("https://ledge.example/", "1.00 MB", "300 kB", "−70 %", "2.40 s", "–"):
        assert words in text
    history = said("weights", "ledge", "https://ledge.example/")
    assert "predicted" in history
    assert json.loads(said("weights", "ledge", "/", "--json"))[1]["bytes"] == 300_000
    assert "no page is known" in said("weights", "ledge", "/nowhere", code=2)
    service.answers["GET", "/libraries/ledge/site-pages"] = []
    assert "Next: plumcrate weigh ledge /" in said("weights", "ledge")


def test_settings_keep_what_is_not_named(
    said: Callable[..., str], service: Service, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    page = "https://ledge.example/"
    text = said("page-settings", "ledge", page, "--after-runs", "yes")
    sent = service.last_body
    assert (sent["schedule"], sent["after_runs"]) == ("5 4 * * *", True)
    assert "secrets" not in sent, "kept as they were"
    assert service.last_body["budget"]["bytes"] == 400_000
    assert "budget: bytes 400 kB" in text
    assert "signs in: yes, sealed" in text
    (tmp_path / "way-in").write_text("Cookie: a=1; b=x=y\n\nX-Key: k\n")
    said(
        "page-settings",
        "ledge",
        page,
        "--sign-in",
        str(tmp_path / "way-in"),
        "--budget",
        "none",
        "--schedule",
        "none",
    )
    assert service.last_body["secrets"] == {
        "cookies": [{"name": "a", "value": "1"}, {"name": "b", "value": "x=y"}],
        "headers": [{"name": "X-Key", "value": "k"}],
    }
    assert (service.last_body["budget"], service.last_body["schedule"]) == (None, None)
    monkeypatch.setattr("sys.stdin", io.StringIO("Authorization: Basic x"))
    said("page-settings", "ledge", page, "--sign-in", "-")
    assert service.last_body["secrets"]["headers"] == [{"name": "Authorization", "value": "Basic x"}]
    said("page-settings", "ledge", page, "--no-sign-in")
    assert not any(service.last_body["secrets"].values()), "nothing signs in any more"
    (tmp_path / "odd").write_text("nonsense")
    assert "is written in lines" in said(
        "page-settings", "ledge", page, "--sign-in", str(tmp_path / "odd"), code=2
    )
    assert "none-there" in said(
        "page-settings", "ledge", page, "--sign-in", str(tmp_path / "none-there"), code=2
    )


def test_treating_a_page_names_its_run(said: Callable[..., str], service: Service) -> None:
    assert "Run 7 treats 3 files" in said("treat-page", "1", "--everything")
    assert service.last_body == {"everything": True}


@pytest.mark.parametrize(
    ("text", "name", "value"),
    [
        ("bytes=400kB", "bytes", 400_000),
        ("bytes=1.5 MB", "bytes", 1_500_000),
        ("pictures=12", "pictures", 12),
        ("lcp=2.5s", "lcp", 2.5),
        ("load=900ms", "load", 0.9),
        ("fcp=1", "fcp", 1.0),
        ("requests=40", "requests", 40),
        ("cls=0.1", "cls", 0.1),
        (" bytes = 3 kb ", "bytes", 3_000),
    ],
)
def test_a_budget_is_read_with_its_units(text: str, name: str, value: float) -> None:
    assert getattr(budget_of(text), name) == value


@pytest.mark.parametrize(
    "text",
    [
        "",
        "bytes",
        "bytes=",
        "bytes=4s",
        "lcp=2kB",
        "weight=3",
        "requests=3kB",
        "cls=0.1s",
        "bytes=-3",
        "lcp=1e5",
        "bytes=3;lcp=2",
    ],
)
def test_a_budget_that_makes_no_sense_is_refused(text: str) -> None:
    with pytest.raises(WrongCommand):
        budget_of(text)


@given(st.text(max_size=40))
def test_any_text_is_a_budget_or_refused(text: str) -> None:
    found = None
    with contextlib.suppress(WrongCommand, ValueError):
        found = budget_of(text)
    assert found is None or found.model_dump(exclude_none=True)
