"""A client of the last release goes on working: nothing of the interface that it relies on goes."""

from __future__ import annotations

import copy
import json
from typing import Any

import pytest
from released import PLACE, breaks, facts

from plumcrate.api.openapi import kept


def test_nothing_that_was_released_is_taken_away() -> None:
    """What must go is deprecated first: docs/developers.md. After a release run released.py."""
    assert breaks(json.loads(PLACE.read_text()), facts(kept())) == []


def _without_an_operation(document: dict[str, Any]) -> None:
    del document["paths"]["/api/v1/runs"]["get"]


def _without_a_parameter(document: dict[str, Any]) -> None:
    document["paths"]["/api/v1/runs"]["get"]["parameters"].pop()


def _with_a_field_more_to_send(document: dict[str, Any]) -> None:
    asked = document["components"]["schemas"]["RunRequest"]
    asked["properties"]["reason"] = {"type": "string"}
    asked["required"].append("reason")


def _without_a_field_of_an_answer(document: dict[str, Any]) -> None:
    del document["components"]["schemas"]["Run"]["properties"]["state"]


def _with_another_status(document: dict[str, Any]) -> None:
    answers = document["paths"]["/api/v1/runs"]["post"]["responses"]
    answers["201"] = answers.pop("202")


@pytest.mark.parametrize(
    "change",
    [
        _without_an_operation,
        _without_a_parameter,
        _with_a_field_more_to_send,
        _without_a_field_of_an_answer,
        _with_another_status,
    ],
)
def test_what_breaks_a_client_is_noticed(change: Any) -> None:
    document = copy.deepcopy(kept())
    change(document)
    assert breaks(facts(kept()), facts(document))


def test_what_is_added_breaks_nobody() -> None:
    document = copy.deepcopy(kept())
    document["components"]["schemas"]["Run"]["properties"]["more"] = {"type": "string"}
    document["components"]["schemas"]["RunRequest"]["properties"]["more"] = {"type": "string"}
    document["paths"]["/api/v1/more"] = {"get": {"responses": {"200": {"description": "more"}}}}
    assert breaks(facts(kept()), facts(document)) == []
