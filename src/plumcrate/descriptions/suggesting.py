"""Suggestions: only what somebody wrote elsewhere, each with its source. Nothing is made up."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

from plumcrate.contract.descriptions import Suggestion, TextField, TextSource

from .rules import CAMERA, words_of

_FILE_NAME = re.compile(r"[_\-.+@\s]+")
#: What ends a name and says nothing of the picture: sizes, densities, counters, crop keys.
_TAIL = re.compile(
    r"[ _@-](\d+x\d+|\d{1,3}|\d+w|[1-4]x|scaled|copy|final|edited|v\d+|[0-9a-f]{8,})\Z", re.IGNORECASE
)
_SOURCES: dict[TextField, tuple[TextSource, ...]] = {
    TextField.ALTERNATIVE: (
        TextSource.XMP_ALTERNATIVE,
        TextSource.PAGE_ALTERNATIVE,
        TextSource.XMP_CAPTION,
        TextSource.IPTC_CAPTION,
        TextSource.EXIF_CAPTION,
        TextSource.PAGE_CAPTION,
        TextSource.XMP_HEADLINE,
        TextSource.IPTC_HEADLINE,
        TextSource.PAGE_LINK,
        TextSource.PAGE_HEADING,
        TextSource.FILE_NAME,
    ),
    TextField.TITLE: (
        TextSource.XMP_TITLE,
        TextSource.IPTC_TITLE,
        TextSource.XMP_HEADLINE,
        TextSource.IPTC_HEADLINE,
        TextSource.FILE_NAME,
    ),
    TextField.CAPTION: (
        TextSource.PAGE_CAPTION,
        TextSource.XMP_CAPTION,
        TextSource.IPTC_CAPTION,
        TextSource.EXIF_CAPTION,
    ),
    TextField.CREDIT: (TextSource.XMP_CREDIT, TextSource.IPTC_CREDIT),
}


@dataclass(frozen=True, slots=True)
class KnownText:
    """A text that somebody wrote; ``where``: on which page."""

    source: TextSource
    text: str
    where: str = ""


def suggestions_of(path: str, known: Sequence[KnownText]) -> list[Suggestion]:
    """For every field, the best source first; the same words of several sources once."""
    # Software that needs some text for a page often takes the file's name.
    stem = words_of(path.rpartition("/")[2].rpartition(".")[0])
    everything = [*(one for one in known if words_of(one.text) != stem), *from_name(path)]
    by_source: dict[TextSource, list[KnownText]] = {}
    for one in everything:
        by_source.setdefault(one.source, []).append(one)
    return [
        Suggestion(field=field, text=one.text, source=one.source, where=one.where)
        for field, sources in _SOURCES.items()
        for one in _once(one for source in sources for one in by_source.get(source, ()))
    ]


def _once(known: Iterable[KnownText]) -> Iterator[KnownText]:
    seen = set()
    for one in known:
        words = tuple(words_of(one.text))
        if words and words not in seen:
            seen.add(words)
            yield one


def _is_word(part: str) -> bool:
    letters = sum(map(str.isalpha, part))
    return letters >= 3 and letters * 2 > len(part)


def from_name(path: str) -> list[KnownText]:
    """A file's name taken apart, where it has words: of ``gannet_colony-east_1200x800.jpg`` "Gannet colony
    east"."""
    stem = path.rpartition("/")[2].rpartition(".")[0][:300]
    while (shorter := _TAIL.sub("", stem)) != stem:
        stem = shorter
    if CAMERA.match(stem):
        return []
    parts = [part for part in _FILE_NAME.split(stem) if part]
    words = [part for part in parts if _is_word(part)]
    if not words or len(words) * 2 < len(parts):
        return []
    text = " ".join(part for part in parts if part in words or (part.isdigit() and len(part) <= 4))
    return [KnownText(TextSource.FILE_NAME, text[0].upper() + text[1:])]
