"""What each role may do, as a table made from the operations: ``python -m plumcrate.api.rights``."""

from __future__ import annotations

from fastapi.routing import APIRoute

from plumcrate.contract.people import ROLES, Role

from .app import ROUTERS
from .needs import Need, need_of


def table() -> str:
    """Markdown: an operation a line, with who may do it."""
    heads = [*(str(role) for role in Role), "service"]
    lines = [
        f"| what | key's ability | {' | '.join(heads)} |",
        f"| --- | --- | {' | '.join('---' for _ in heads)} |",
    ]
    for module in ROUTERS:
        for route in module.router.routes:
            if isinstance(route, APIRoute):
                need = need_of(route)
                cells = [_cell(need, role) for role in (*Role, None)]
                lines.append(f"| {route.summary} | {_ability(need)} | {' | '.join(cells)} |")
    return "\n".join(lines) + "\n"


def _ability(need: Need | None) -> str:
    if need is None:
        return "open"
    if need.person:
        return "people only"
    return str(need.ability) if need.ability is not None else "service"


def _cell(need: Need | None, role: Role | None) -> str:
    if need is None or need.person or role is None:
        return "●"
    allowed = need.ability is not None and need.ability in ROLES[role]
    return "●" if allowed else "–"


if __name__ == "__main__":
    print(table(), end="")
