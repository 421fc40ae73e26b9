"""Each type of problem is described once: for answers, the page that one leads to, and the documentation."""

import re
from pathlib import Path

import httpx
import pytest
from conftest import Service

from plumcrate.api import problem_types
from plumcrate.api.problem_types import PAGES, TYPES, URN

ROOT = Path(__file__).parents[2]


def test_a_refusal_leads_to_the_page_that_says_what_to_do(service: Service) -> None:
    answer = httpx.get(f"{service.url}/api/v1/libraries")
    code = answer.json()["type"].removeprefix(URN)
    found = re.fullmatch(r'<(?P<path>[^>]+)>; rel="help"', answer.headers["link"])
    assert code == "not-signed-in"
    assert found is not None
    page = httpx.get(service.url + found["path"])
    assert page.status_code == 200
    assert page.headers["content-type"].startswith("text/html")
    for said in (TYPES[code].title, TYPES[code].means, TYPES[code].do, URN + code):
        assert said in page.text
    everything = httpx.get(service.url + PAGES).text
    assert re.findall(rf'href="{PAGES}/([a-z-]+)"', everything) == list(TYPES)
    unknown = httpx.get(f"{service.url}{PAGES}/no-such-type")
    assert (unknown.status_code, unknown.json()["type"]) == (404, f"{URN}not-found")


def test_the_documentation_has_each_and_is_made_of_them() -> None:
    assert (ROOT / "docs/problems.md").read_text(encoding="utf-8") == problem_types.documentation()


@pytest.mark.parametrize("code", TYPES)
def test_each_says_what_it_means_and_what_to_do_in_whole_sentences(code: str) -> None:
    kind = TYPES[code]
    assert re.fullmatch(r"[a-z]+(-[a-z]+)*", code)
    assert 400 <= kind.status < 600
    for sentence in (kind.means, kind.do):
        assert sentence[0].isupper()
        assert sentence.endswith(".")
    assert not kind.title.endswith(".")


def test_every_code_that_the_program_answers_with_is_described() -> None:
    said = set()
    for place in (ROOT / "src/plumcrate").rglob("*.py"):
        said |= set(
            re.findall(r'(?:ApiError|Refusal|respond)\(\s*"([a-z-]+)"', place.read_text(encoding="utf-8"))
        )
    assert len(said) > 40
    assert said <= set(TYPES)
