"""The OpenAPI document: kept beside the service, so that no start and no request builds it.

``python -m plumcrate.api.openapi`` prints it anew; ``script/types`` writes it, and makes the console's types.
"""

from __future__ import annotations

import json
from functools import cache
from pathlib import Path
from typing import Any

from fastapi import FastAPI

from plumcrate.contract.common import Problem

PLACE = Path(__file__).with_name("openapi.json")


@cache
def kept() -> dict[str, Any]:
    """The document as it is kept."""
    document: dict[str, Any] = json.loads(PLACE.read_bytes())
    return document


def built(app: FastAPI) -> dict[str, Any]:
    """The document of an application, with the problem that any operation may answer with."""
    document = FastAPI.openapi(app)
    schemas = document.setdefault("components", {}).setdefault("schemas", {})
    schemas["Problem"] = Problem.model_json_schema()
    _say_what_text_is(schemas)
    return document


def _say_what_text_is(schema: Any) -> None:
    """What every model checks of its text, see :class:`plumcrate.contract.common.Message`."""
    if isinstance(schema, list):
        for below in schema:
            _say_what_text_is(below)
    elif isinstance(schema, dict):
        if schema.get("type") == "string" and not {"enum", "const", "format", "pattern"} & schema.keys():
            schema["pattern"] = r"^[^\x00-\x08\x0b-\x1f\x7f]*$"
        for below in schema.values():
            _say_what_text_is(below)


def main() -> None:
    """Prints the document as stable JSON."""
    from plumcrate.settings import Settings

    from .app import create_app

    app = create_app(Settings(database_url="postgresql://nobody@127.0.0.1/nothing"))
    print(json.dumps(built(app), indent=1, sort_keys=True))


if __name__ == "__main__":
    main()
