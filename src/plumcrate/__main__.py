"""The program ``plumcrate``: the user's verbs, and the operator's where the service is installed."""

from __future__ import annotations

import sys
from importlib.util import find_spec
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from plumcrate.cli.index import Index


def operators_verbs() -> Index:
    """The operator's commands; none where only the client is installed."""
    if any(find_spec(name) is None for name in ("uvicorn", "sqlalchemy", "procrastinate")):
        return {}
    from plumcrate.operate.index import INDEX

    return INDEX


def run() -> None:
    """What the installed command calls."""
    from plumcrate.cli.main import main

    sys.exit(main(more=operators_verbs()))


if __name__ == "__main__":
    run()
