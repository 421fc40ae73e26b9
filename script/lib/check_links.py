"""Checks the documentation's own links: every file they name is there, every heading too.

``check_links.py FILE...`` prints what leads nowhere, and fails when there is any. Addresses of the web are
not asked.
"""

from __future__ import annotations

import re
import sys
from pathlib import Path

_LINK = re.compile(r"\[[^\]]*\]\(([^)\s]+)\)")
_HEADING = re.compile(r"^#+\s+(.*)$", re.MULTILINE)


def anchors_of(text: str) -> set[str]:
    """The headings as anchors: small letters, hyphens for blanks, without punctuation."""
    return {
        re.sub(r"[^\w\- ]", "", title.lower()).strip().replace(" ", "-") for title in _HEADING.findall(text)
    }


def dead_links(page: Path) -> list[str]:
    """What leads nowhere from a page."""
    dead = []
    text = re.sub(r"```.*?```", "", page.read_text(), flags=re.DOTALL)
    for target in _LINK.findall(text):
        if re.match(r"[a-z]+:", target):
            continue
        name, _, anchor = target.partition("#")
        place = page.parent / name if name else page
        if not place.exists() or (
            anchor and place.suffix == ".md" and anchor not in anchors_of(place.read_text())
        ):
            dead.append(f"{page}: {target}")
    return dead


if __name__ == "__main__":
    found = [line for name in sys.argv[1:] for line in dead_links(Path(name))]
    print("\n".join(found))
    sys.exit(bool(found))
