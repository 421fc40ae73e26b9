"""Telling programs from people, by what they say they are."""

from __future__ import annotations

import re
from functools import lru_cache

#: What programs call themselves. Who pretends to be a browser is counted as one.
_PROGRAM = re.compile(
    r"bot\b|bot[/_;-]|crawl|spider|slurp|fetch|scan|monitor|uptime|preview|archiv|feed|headless|http-?client"
    r"|python|perl|ruby|java/|okhttp|go-http|curl|wget|libwww|node|axios|scrap|check|validator|plumcrate",
    re.IGNORECASE,
)


@lru_cache(maxsize=4_096)
def is_bot(agent: str | None) -> bool:
    """Whether a ``User-Agent`` is a program's; one that is not sent at all is."""
    return not agent or agent == "-" or _PROGRAM.search(agent) is not None
