"""Which file of the site was made of which, by its own tables; apps for a CMS register how to read them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator

from plumcrate.contract.mapping import MappedRendition

_SOURCES: list[Callable[[], Iterable[MappedRendition]]] = []


def register_mapping(
    source: Callable[[], Iterable[MappedRendition]],
) -> Callable[[], Iterable[MappedRendition]]:
    """``source`` returns every rendition of the site."""
    _SOURCES.append(source)
    return source


def mapped_renditions() -> Iterator[MappedRendition]:
    """What all sources say."""
    for source in _SOURCES:
        yield from source()
