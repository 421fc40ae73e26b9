"""The OpenAPI document: kept beside the service, so that no start and no request builds it.

``python -m plumcrate.api.openapi`` prints it anew; ``script/types`` writes it, and makes the console's types.
"""

from __future__ import annotations

import json
import re
from functools import cache
from pathlib import Path
from typing import Any

from fastapi import FastAPI
from fastapi.routing import APIRoute

from plumcrate.contract.common import Problem
from plumcrate.contract.webhooks import EventType

from .auth import COOKIE, SECURE_COOKIE
from .needs import need_of

PLACE = Path(__file__).with_name("openapi.json")


@cache
def kept() -> dict[str, Any]:
    """The document as it is kept."""
    document: dict[str, Any] = json.loads(PLACE.read_bytes())
    return document


def built(app: FastAPI) -> dict[str, Any]:
    """The document of an application, with the problem that any operation may answer with."""
    document = _renamed(FastAPI.openapi(app))
    schemas = document.setdefault("components", {}).setdefault("schemas", {})
    schemas["Problem"] = Problem.model_json_schema()
    document["components"]["securitySchemes"] = _SCHEMES
    document["webhooks"] = {event.value: {"post": _told(event)} for event in EventType}
    document["tags"] = [{"name": name, "description": words} for name, words in _TAGS.items()]
    for route in app.routes:
        if isinstance(route, APIRoute) and route.include_in_schema:
            for method in route.methods or ():
                document["paths"][route.path_format][method.lower()]["security"] = _security(route)
    _say_what_text_is(schemas)
    return document


def _renamed(document: dict[str, Any]) -> dict[str, Any]:
    """The document with schemas by names that programs can bear: a page of runs is ``RunPage``; what is sent
    and answered in other forms is ``DeliveryInput`` and ``Delivery``."""

    def name(former: str) -> str:
        page = re.fullmatch(r"Page_(\w+)_", former)
        if page is not None:
            return f"{page[1]}Page"
        return former.removesuffix("-Output").replace("-Input", "Input")

    schemas = document.get("components", {}).get("schemas", {})
    names = {former: name(former) for former in schemas}
    assert len(set(names.values())) == len(names), "two schemas would have one name"
    titled = {names[former]: schema | {"title": names[former]} for former, schema in schemas.items()}
    start = "#/components/schemas/"
    renamed: dict[str, Any] = json.loads(
        re.sub(
            rf'"{start}([^"/]+)',
            lambda found: f'"{start}{names.get(found[1], found[1])}',
            json.dumps(document | {"components": {"schemas": titled}}),
        )
    )
    return renamed


def operation_id(route: APIRoute) -> str:
    """What generators of clients call an operation: its tag and its function."""
    return f"{route.tags[0] if route.tags else 'service'}_{route.name}".replace("-", "_")


def _told(event: EventType) -> dict[str, Any]:
    """A message to a library's webhook (https://www.standardwebhooks.com)."""
    parts = {
        "type": {"const": event.value},
        "timestamp": {"type": "string", "format": "date-time"},
        "data": {"type": "object", "description": "See docs/developers.md, messages to your webhooks."},
    }
    names = ("webhook-id", "webhook-timestamp", "webhook-signature", "traceparent")
    return {
        "operationId": f"told_{event.value.replace('.', '_').replace('-', '_')}",
        "summary": f"{event.value}, signed",
        "tags": ["webhooks"],
        "parameters": [
            {"in": "header", "name": name, "required": True, "schema": {"type": "string"}} for name in names
        ],
        "requestBody": {
            "required": True,
            "content": {
                "application/json": {
                    "schema": {"type": "object", "properties": parts, "required": list(parts)}
                }
            },
        },
        "responses": {
            "2XX": {"description": "It was taken."},
            "410": {"description": "Nothing more is wanted; anything else is tried again."},
        },
    }


def _security(route: APIRoute) -> list[dict[str, list[str]]]:
    """Who may send it: anybody, a person in a browser, or a machine with a key too."""
    need = need_of(route)
    if need is None:
        return []
    return [{"session": []}] if need.person else [{"key": []}, {"session": []}]


_SCHEMES = {
    "key": {
        "type": "http",
        "scheme": "bearer",
        "description": "A key for machines, as `Authorization: Bearer plumkey-…` (RFC 6750).",
    },
    "session": {
        "type": "apiKey",
        "in": "cookie",
        "name": COOKIE,
        "description": f"A person who has signed in; behind TLS the cookie is called `{SECURE_COOKIE}`.",
    },
}
_TAGS = {
    "sessions": "Signing in and out, and one's own account.",
    "people": "Who has an account, and who a role in which library.",
    "keys": "Keys for machines.",
    "audit": "Who did what.",
    "machine": "What the service needs of its machine, and its settings.",
    "libraries": "Connected folder trees, their settings and what was saved.",
    "recipes": "How pictures are treated.",
    "pictures": "Pictures, their files and the bytes of these.",
    "runs": "Treating and restoring many files, and the event stream.",
    "jobs": "All other long work: surveys, checks, forecasts, prunings.",
    "intake": "New files: uploads and incoming webhooks.",
    "site-files": "What is on record of files, by their paths.",
    "care": "Backups, originals that lost their file, the library's folder.",
    "pages": "Pages that are rewritten so that browsers fetch the lighter forms.",
    "serving": "Server rules, caches, and what visitors were sent.",
    "weighing": "Pages that are weighed.",
    "allowance": "What may be treated in a month.",
    "reports": "Reports for the client.",
    "webhooks": "What a library tells to the outside.",
    "sizes": "Named sizes, what each shows, and files that nobody asks for.",
    "touches": "Touch-ups of single pictures.",
    "watermarks": "Watermarks that are laid over what visitors are served.",
    "descriptions": "What pictures say to those who do not see them.",
    "mapping": "Which file the site made of which.",
    "near-duplicates": "Pictures that show the same.",
    "folders": "Folders that may be connected.",
}


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
