"""What a page offers for each of its pictures: the other way round, for proof."""

from __future__ import annotations

from collections.abc import Set
from dataclasses import dataclass

from .pictures import SAVING_DATA
from .references import decoded
from .srcset import candidates_of
from .tokenizer import Tag, Tokenizer


@dataclass(frozen=True, slots=True)
class ImageOffer:
    """An ``<img>``: its own address, and before it addresses by type in the page's order. ``base`` is what
    ``<base href>`` says."""

    address: str
    typed: tuple[tuple[str, str], ...]
    base: str | None

    def chosen(self, shown: Set[str]) -> str:
        """What a browser fetches that shows some types beyond what all do: the widest of what it may take."""
        return next((address for kind, address in self.typed if kind in shown), self.address)


def offers_of(page: str) -> list[ImageOffer]:
    """The offers of a whole page. Sources that depend on the screen (``media``) count as if they fitted,
    those for visitors who ask for less data as if they did not."""
    tokenizer, found = Tokenizer(), []
    typed: list[tuple[str, str]] = []
    templates, base = 0, None
    for tag in (*tokenizer.feed(page), *tokenizer.close()):
        if tag.name == "template":
            templates += -1 if tag.closing else 1
        if tag.foreign or templates > 0:
            continue
        if tag.name == "picture":
            typed = []
        elif tag.closing:
            continue
        elif tag.name == "base" and base is None and "href" in tag.attributes:
            base = tag.attributes["href"].text
        elif tag.name == "source" and "type" in tag.attributes and "srcset" in tag.attributes:
            if "media" in tag.attributes and tag.attributes["media"].text.strip() == SAVING_DATA:
                continue
            typed.append((tag.attributes["type"].text.strip().lower(), _widest(tag)))
        elif tag.name == "img":
            address = _widest(tag)
            if address:
                found.append(ImageOffer(address, tuple(typed), base))
            typed = []
    return found


def _widest(tag: Tag) -> str:
    """The candidate for the largest screen, else ``src``."""
    srcset, src = tag.attributes.get("srcset"), tag.attributes.get("src")
    found = candidates_of(decoded(srcset.value)) if srcset else []
    if found:
        return max(found, key=lambda candidate: candidate.width or 0).address
    return src.text.strip() if src else ""
