"""From the addresses that a page writes to paths of the library, and back (RFC 3986)."""

from __future__ import annotations

from dataclasses import dataclass
from urllib.parse import SplitResult, quote, unquote_to_bytes, urljoin, urlsplit

_PORTS = {"http": 80, "https": 443}
_SAFE = "/-._~!$&'()*+;=:@"


@dataclass(frozen=True, slots=True)
class Place:
    """An address that lies in the library: its path there, and how it was written before any query."""

    path: str
    head: str
    query: str

    def beside(self, path: str, home: str, base: str | None) -> str:
        """The address of another file of the library: written as this one is where it lies in the same
        folder, by the site's address elsewhere, and by ``base`` where one is set."""
        if base is not None:
            return f"{base.rstrip('/')}/{_quoted(path)}{self.query}"
        folder, _, name = path.rpartition("/")
        if folder == self.path.rpartition("/")[0]:
            before, slash, _ = self.head.rpartition("/")
            return f"{before}{slash}{_quoted(name)}{self.query}"
        return f"{home.rstrip('/')}/{_quoted(path)}{self.query}"


@dataclass
class Addresses:
    """``page``: the address of the page, or what its ``<base>`` says; ``home``: where the site serves the
    library's folder; ``base``: where copies are fetched instead, if anywhere."""

    page: str
    home: str
    base: str | None = None

    def rebase(self, href: str) -> None:
        """What ``<base href>`` says; the first one counts."""
        try:
            self.page = urljoin(self.page, href.strip())
        except ValueError:
            return

    def place(self, written: str) -> Place | None:
        """Where in the library an address lies; None elsewhere, and for what cannot be told."""
        written = written.strip("\t\n\f\r ")
        if not written or written[:5].lower() == "data:" or not written.isprintable():
            return None
        head = written.partition("#")[0].partition("?")[0]
        query = written.partition("#")[0][len(head) :]
        if not query.isascii():
            return None
        try:
            home, found = urlsplit(self.home), urlsplit(urljoin(self.page, written))
            if _host(home) != _host(found):
                return None
            at, there = unquote_to_bytes(home.path).decode(), unquote_to_bytes(found.path).decode()
        except ValueError:
            return None
        if "%2f" in found.path.lower() or "\0" in there:
            return None
        prefix = at.rstrip("/") + "/"
        if not there.startswith(prefix) or len(there) == len(prefix):
            return None
        return Place(there[len(prefix) :], quote(head, safe=_SAFE + "%"), quote(query, safe=_SAFE + "%?,"))


def _host(parts: SplitResult) -> tuple[str, int | None]:
    """Host and port. Pages are served by http and https alike, so the usual ports count as one."""
    port = parts.port if parts.port not in _PORTS.values() else None
    return (parts.hostname or "").lower(), port


def _quoted(path: str) -> str:
    """A path for an address that may stand in ``srcset``: no spaces, no commas."""
    return quote(path, safe=_SAFE)
