"""Prints the OpenAPI document: ``python -m plumcrate.api.openapi``. The console's types are made from it."""

from __future__ import annotations

import json

from plumcrate.settings import Settings

from .app import create_app


def document() -> str:
    """The document as stable JSON."""
    app = create_app(Settings(database_url="postgresql://nobody@127.0.0.1/nothing"))
    return json.dumps(app.openapi(), indent=1, sort_keys=True) + "\n"


if __name__ == "__main__":
    print(document(), end="")
