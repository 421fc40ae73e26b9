"""A page's bytes in, the same bytes with what its pictures lack out; whole or in pieces."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from urllib.parse import urlsplit

from plumcrate.contract.delivery import Delivery

from . import selection
from .addresses import Addresses
from .encoding import PRESCAN, CannotRead, Encoding, encoding_of
from .rewriter import Lookup, Rewriter, RewriteTally

#: What is fed at a time where all is there at once.
_PIECE = 1 << 20
#: A tag that does not end within so many characters is given up: each piece that comes costs as much as is
#: held.
_LONGEST_HELD = 1_000_000


def rewrite(
    page: bytes, address: str, settings: Delivery, lookup: Lookup, charset: str | None = None
) -> tuple[bytes, RewriteTally]:
    """A page that says the right markup of the library's pictures.

    ``address``: where the page is, absolute; ``charset``: what was sent along with it. A page that cannot be
    edited safely comes back as it is.
    """
    pieces = (page[at : at + _PIECE] for at in range(0, len(page), _PIECE))
    stream = PageStream(address, settings, lookup, charset)
    return b"".join(stream.over(pieces)), stream.tally


class PageStream:
    """Rewrites a page in pieces of bytes. It holds back what it has not made up its mind about: a tag, or a
    ``<picture>``, that has not ended.

    Whatever goes wrong, the page's own bytes come out: ``fault`` then holds what it was, and the rest of the
    page passes as it is. ``styled``: whether the page's policy lets style attributes be.
    """

    def __init__(
        self,
        address: str,
        settings: Delivery,
        lookup: Lookup,
        charset: str | None = None,
        *,
        styled: bool = True,
    ) -> None:
        self.tally = RewriteTally()
        self.fault: Exception | None = None
        self._address, self._settings = address, settings
        self._lookup, self._charset, self._may_style = lookup, charset, styled
        self._start = b""
        self._encoding: Encoding | None = None
        self._rewriter: Rewriter | None = None
        home = settings.address
        # Without the address of the library nothing of a page is known to be in it.
        off = home is None or not settings.markup.rewrite
        self._as_it_is = off or selection.page_left_out(settings.markup, urlsplit(address).path)

    def over(self, pieces: Iterable[bytes]) -> Iterator[bytes]:
        for piece in pieces:
            yield self.feed(piece)
        yield self.close()

    def feed(self, piece: bytes) -> bytes:
        """A piece of the page; what can be passed on of it and of what was held back."""
        if self._as_it_is:
            return piece
        try:
            return self._fed(piece)
        except Exception as error:
            return self._give_up(error)

    def close(self) -> bytes:
        """The page has ended: the rest of it."""
        if self._as_it_is:
            return b""
        try:
            return self._closed()
        except Exception as error:
            return self._give_up(error)

    def _give_up(self, error: Exception) -> bytes:
        """The page's own bytes that were taken and not passed on yet."""
        self.fault, self._as_it_is = error, True
        if self._rewriter is None or self._encoding is None:
            return self._start
        return self._encoding.encode(self._rewriter.held) + self._decoder.getstate()[0]

    def _fed(self, piece: bytes) -> bytes:
        if self._rewriter is None:
            self._start += piece
            if len(self._start) < PRESCAN:
                return b""
            return self._begin()
        return self._through(piece)

    def _closed(self) -> bytes:
        rest = self._begin() if self._rewriter is None else b""
        if self._rewriter is None or self._encoding is None:
            return rest
        tail = self._decoder.getstate()[0]  # an odd byte at the end
        return rest + self._encoding.encode(self._rewriter.close()) + tail

    def _begin(self) -> bytes:
        """Decides how the page is read; what can be passed on of what was held for that."""
        try:
            self._encoding = encoding_of(self._start, self._charset)
        except CannotRead:
            self._as_it_is = True
            return self._start
        settings = self._settings
        addresses = Addresses(self._address, settings.address or "", settings.base)
        self._decoder = self._encoding.decoder()
        self._rewriter = Rewriter(
            settings.markup, addresses, self._lookup, self._encoding.text_of, styled=self._may_style
        )
        self._rewriter.tally = self.tally
        return self._through(self._start)

    def _through(self, piece: bytes) -> bytes:
        if self._rewriter is None or self._encoding is None:
            return piece
        try:
            text = self._decoder.decode(piece)
        except UnicodeDecodeError:
            # Not what it says it is: the rest goes through as it comes.
            self._as_it_is = True
            return self._encoding.encode(self._rewriter.close()) + self._decoder.getstate()[0] + piece
        passed = self._encoding.encode(self._rewriter.feed(text))
        if len(self._rewriter.held) > _LONGEST_HELD:
            passed += self._give_up(ValueError(f"a tag does not end within {_LONGEST_HELD:,} characters"))
        return passed
