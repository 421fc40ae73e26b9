"""Why a page could not be weighed, in plain words."""

from __future__ import annotations

from collections.abc import Mapping
from urllib.parse import urlsplit


class Fault(Exception):
    """``code`` is stable; the text says what happened and what to do."""

    def __init__(self, code: str, text: str) -> None:
        super().__init__(text)
        self.code = code


_PORTS = {"http": 80, "https": 443}
_ERRORS = {
    "ERR_TOO_MANY_REDIRECTS": ("redirects", "the page redirects in a loop: correct its redirects"),
    "ERR_CERT": ("certificate", "the site's certificate is not valid"),
    "ERR_SSL": ("certificate", "no safe connection could be made to the site"),
    "ERR_UNSAFE_PORT": ("unsafe-port", "browsers do not open pages at this port"),
    "ERR_INVALID_REDIRECT": ("redirects", "the page sends on to an address that makes no sense"),
    "ERR_UNSAFE_REDIRECT": ("redirects", "the page sends on to an address that browsers do not follow"),
    "ERR_INVALID_HTTP_RESPONSE": ("not-http", "what answers there does not speak HTTP"),
    "ERR_EMPTY_RESPONSE": ("no-answer", "the site closed the connection without an answer"),
    "ERR_INVALID_AUTH_CREDENTIALS": ("sign-in", "the page asks who you are: give it cookies or headers"),
    "Download is starting": ("not-a-page", "what is there is no page: the browser would save it as a file"),
    "ERR_ABORTED": ("not-a-page", "what is there is no page: the browser would save it as a file"),
    "ERR_CONNECTION": ("no-answer", "the site ended the connection"),
    "ERR_HTTP2": ("not-http", "what answers there does not speak HTTP as it should"),
    "ERR_TIMED_OUT": ("no-answer", "the site does not answer"),
}


def of_network(said: str, address: str, reasons: Mapping[str, str]) -> Fault:
    """The fault behind a browser's network error. ``reasons``: what the tunnel knows, by ``host:port``."""
    parts = urlsplit(address)
    place = f"{parts.hostname}:{parts.port or _PORTS.get(parts.scheme, 80)}"
    if place in reasons:
        return _of_tunnel(reasons[place])
    for name, (code, text) in _ERRORS.items():
        if name in said:
            return Fault(code, text)
    if reasons:
        return _of_tunnel(list(reasons.values())[-1])  # where it was sent on to
    word = next((word for word in said.split() if "ERR_" in word), said.splitlines()[0][:120] if said else "")
    return Fault("no-answer", f"the page could not be opened ({word.removeprefix('net::')})")


def _of_tunnel(why: str) -> Fault:
    return Fault("not-allowed" if "not listed as allowed" in why else "no-answer", why)
