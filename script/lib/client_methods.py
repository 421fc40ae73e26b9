"""Prints ``src/plumcrate/client/methods.py``: a class for each module of ``client/calls``, with a method for
each of its calls, in their order."""

from __future__ import annotations

import ast
from pathlib import Path

CALLS = Path(__file__).resolve().parents[2] / "src/plumcrate/client/calls"
#: Its calls are the client's own methods.
SERVICE = "service"

HEAD = '''"""What clients are asked for, by what it is about. Made by script/types; not edited by hand."""

from __future__ import annotations

'''


def calls(module: Path) -> list[tuple[str, bool]]:
    """The functions of a module that return a call, and whether it is for a page of a list."""
    return [
        (node.name, ast.unparse(node.returns).startswith("Call[Page["))
        for node in ast.parse(module.read_text()).body
        if isinstance(node, ast.FunctionDef)
        and node.returns is not None
        and ast.unparse(node.returns).startswith("Call[")
    ]


def main() -> None:
    modules = {
        path.stem: path for path in sorted(CALLS.glob("*.py")) if path.stem not in ("__init__", "base")
    }
    print(HEAD + "from .calls import (")
    print("".join(f"    {name},\n" for name in modules) + ")")
    print("from .method import C, Each, Method, Resource")
    for name, path in modules.items():
        title = "".join(word.title() for word in name.split("_"))
        words = ast.get_docstring(ast.parse(path.read_text()))
        print(f'\n\nclass {title}(Resource[C]):\n    """{words}"""\n')
        for call, paged in calls(path):
            print(f"    {call} = Method({name}.{call})")
            if paged and call == "page":
                print(f"    each = Each({name}.{call})")
            elif paged:
                print(f"    each_of_{call} = Each({name}.{call})")


if __name__ == "__main__":
    main()
