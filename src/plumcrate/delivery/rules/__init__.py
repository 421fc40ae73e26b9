"""Rules for a site's own server: configuration that serves copies beside the files, for the library at hand.

Each server has a module that knows its language, and a template beside it that reads as its configuration.
"""

from __future__ import annotations

from collections.abc import Callable

from plumcrate.contract.delivery import ServerKind as Server

from . import apache, caddy, nginx
from .ground import RulesContext, UnfitName

__all__ = ["RulesContext", "Server", "UnfitName", "rules"]

_WRITERS: dict[Server, Callable[[RulesContext], str]] = {
    Server.NGINX: nginx.written,
    Server.APACHE: apache.written,
    Server.CADDY: caddy.written,
}


def rules(server: Server, ground: RulesContext) -> str:
    """The configuration for a library. Raises :class:`UnfitName` for what its language cannot say."""
    return _WRITERS[server](ground)
