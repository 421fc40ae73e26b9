"""Prints ``src/plumcrate/client/methods.py``: a method for each call in ``calls.py``, in its order."""

from __future__ import annotations

import ast
from pathlib import Path

CALLS = Path(__file__).resolve().parents[2] / "src/plumcrate/client/calls.py"

HEAD = '''"""The methods of both clients, one for each call. Made by script/types; not edited by hand."""

from __future__ import annotations

from . import calls
from .method import Method


class Methods:
    """What a client can do; each is explained at its call in :mod:`.calls`."""
'''


def names() -> list[str]:
    """The public functions of ``calls.py`` that return a call."""
    tree = ast.parse(CALLS.read_text())
    return [
        node.name
        for node in tree.body
        if isinstance(node, ast.FunctionDef)
        and not node.name.startswith("_")
        and node.returns is not None
        and ast.unparse(node.returns).startswith("Call[")
    ]


if __name__ == "__main__":
    print(HEAD)
    for name in names():
        print(f"    {name} = Method(calls.{name})")
