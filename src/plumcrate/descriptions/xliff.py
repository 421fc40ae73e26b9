"""Texts for translators: XLIFF 2.1 (OASIS Standard, 13 February 2018), a ``<file>`` for each picture and a
``<unit>`` for each of its texts."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from typing import BinaryIO
from xml.etree.ElementTree import Element, ParseError
from xml.sax.saxutils import escape, quoteattr

from defusedxml import DefusedXmlException
from defusedxml.ElementTree import iterparse

from plumcrate.contract.descriptions import TextField
from plumcrate.refusal import Refusal

_NAMESPACE = "urn:oasis:names:tc:xliff:document:2.0"  # also of 2.1, section 2.2
_FIELDS = (TextField.ALTERNATIVE, TextField.TITLE, TextField.CAPTION)


@dataclass
class Translated:
    """The texts of one picture, by field: what was translated, and into what."""

    path: str
    sources: dict[TextField, str] = field(default_factory=dict)
    targets: dict[TextField, str] = field(default_factory=dict)


def opening(source: str, target: str) -> str:
    return (
        '<?xml version="1.0" encoding="UTF-8"?>\n'
        f'<xliff xmlns="{_NAMESPACE}" version="2.1" srcLang={quoteattr(source)} '
        f"trgLang={quoteattr(target)}>\n"
    )


CLOSING = "</xliff>\n"


def written(number: int, picture: Translated) -> str:
    """A picture's texts; nothing where there are none to translate."""
    units = "".join(
        _unit(name, picture.sources[name], picture.targets.get(name, ""))
        for name in _FIELDS
        if picture.sources.get(name)
    )
    if not units:
        return ""
    return f' <file id="p{number}" original={quoteattr(picture.path)}>\n{units} </file>\n'


def _unit(name: TextField, source: str, target: str) -> str:
    state = "translated" if target else "initial"
    translated = f"<target>{escape(target)}</target>" if target else ""
    return (
        f'  <unit id="{name}" name="{name}"><segment state="{state}">'
        f"<source>{escape(source)}</source>{translated}</segment></unit>\n"
    )


def read(file: BinaryIO) -> tuple[str, str, Iterator[Translated]]:
    """Languages from and to, and pictures one by one. What is no XLIFF 2 raises :class:`Refusal`
    ``invalid-request``, at once or while pictures are read."""
    events = _events(file)
    _, root = next(events)
    if root.tag != f"{{{_NAMESPACE}}}xliff":
        raise Refusal("invalid-request", "the file is no XLIFF 2: its first element is another")
    target = root.get("trgLang")
    if not target:
        raise Refusal(
            "invalid-request", "the file does not say into which language it is translated (trgLang)"
        )
    return root.get("srcLang", ""), target, _pictures(events, root)


def _events(file: BinaryIO) -> Iterator[tuple[str, Element]]:
    try:
        yield from iterparse(file, ("start", "end"))
    except DefusedXmlException:
        raise Refusal(
            "invalid-request", "the file declares entities or a document type: leave them out"
        ) from None
    except (ParseError, UnicodeError, ValueError, LookupError) as error:
        raise Refusal("invalid-request", f"the file cannot be read as XML: {error}") from None


def _pictures(events: Iterable[tuple[str, Element]], root: Element) -> Iterator[Translated]:
    """Each element is read once, at its end, and emptied: however they nest, time and memory stay in
    proportion."""
    picture = Translated("")
    for event, element in events:
        if event != "end":
            continue
        if element.tag == f"{{{_NAMESPACE}}}unit":
            name = element.get("name") or element.get("id", "")
            if name in _FIELDS:
                picture.sources[TextField(name)] = _joined(element, "source")
                picture.targets[TextField(name)] = _joined(element, "target")
            element.clear()
        elif element.tag == f"{{{_NAMESPACE}}}file":
            picture.path = element.get("original", "")
            yield picture
            picture = Translated("")
            element.clear()
            root.clear()


def _joined(unit: Element, part: str) -> str:
    """The text of a unit's segments (XLIFF 2.1, 4.2.2.5), with what is marked in it."""
    found = unit.findall(f"{{{_NAMESPACE}}}segment/{{{_NAMESPACE}}}{part}")
    return "".join("".join(one.itertext()) for one in found).strip()
