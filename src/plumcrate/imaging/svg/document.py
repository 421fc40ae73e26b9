"""Reading a drawing: as a tree, without entities, document types or anything from elsewhere."""

from __future__ import annotations

import io
from dataclasses import dataclass, field
from xml.etree.ElementTree import Element, ParseError

from defusedxml import DefusedXmlException
from defusedxml.ElementTree import iterparse

from ..errors import Damaged, LeftAlone

SVG = "{http://www.w3.org/2000/svg}"
XLINK = "{http://www.w3.org/1999/xlink}"
XML = "{http://www.w3.org/XML/1998/namespace}"
RDF = "{http://www.w3.org/1999/02/22-rdf-syntax-ns#}"

#: Larger drawings, of more elements or nested deeper, are left alone.
MOST_BYTES, MOST_ELEMENTS, DEEPEST = 32_000_000, 400_000, 200
HREFS = ("href", f"{XLINK}href")
#: Elements of which others are shown again and again (``<use>``) count as often as they are drawn.
_MOST_DRAWN, _DEEPEST_USES = 2_000_000, 40
#: Elements by which a drawing moves (SVG 1.1, 19.2).
MOVING = frozenset(
    SVG + name for name in ("animate", "animateColor", "animateMotion", "animateTransform", "set", "discard")
)


@dataclass
class Drawing:
    """A drawing's tree. ``prefixes``: by which a namespace was called first."""

    root: Element
    prefixes: dict[str, str] = field(default_factory=dict)

    def elements(self) -> list[Element]:
        """All of them, in the order of the file."""
        return list(self.root.iter())

    @property
    def style_sheets(self) -> str:
        """What ``<style>`` elements say, all together."""
        return "\n".join("".join(style.itertext()) for style in self.root.iter(f"{SVG}style"))


def read_drawing(data: bytes) -> Drawing:
    """Raises Damaged for what is no well-formed XML, LeftAlone for what is not treated, with the reason."""
    if len(data) > MOST_BYTES:
        raise LeftAlone(f"drawings of more than {MOST_BYTES // 1_000_000} MB are left alone")
    try:
        drawing = _parsed(data)
    except DefusedXmlException:
        raise LeftAlone("it declares entities, which are not read here, so it is left alone") from None
    except ParseError as error:
        raise Damaged(f"it is no well-formed XML: {error}") from None
    except (ValueError, LookupError) as error:
        raise Damaged(f"it cannot be read as XML: {error}") from None
    _refuse_what_cannot_be_proven(drawing)
    _refuse_vast(drawing)
    return drawing


def _parsed(data: bytes) -> Drawing:
    prefixes: dict[str, str] = {}
    root, depth, count = None, 0, 0
    for event, what in iterparse(io.BytesIO(data), ("start", "end", "start-ns", "pi")):
        if event == "start-ns":
            prefixes.setdefault(what[1], what[0])
        elif event == "pi":
            if (what.text or "").split(maxsplit=1)[:1] == ["xml-stylesheet"]:
                raise LeftAlone("it takes a style sheet from another file, so it is left alone")
        elif event == "start":
            root = what if root is None else root
            depth, count = depth + 1, count + 1
            if depth > DEEPEST:
                raise LeftAlone(f"its elements are nested deeper than {DEEPEST}, so it is left alone")
            if count > MOST_ELEMENTS:
                raise LeftAlone(f"it has more than {MOST_ELEMENTS:,} elements, so it is left alone")
        else:
            depth -= 1
    if root is None or root.tag != f"{SVG}svg":
        raise LeftAlone("its outermost element is not SVG's, so browsers do not draw it")
    return Drawing(root, prefixes)


def _refuse_vast(drawing: Drawing) -> None:
    """A few lines may show one another so often that nobody can draw them."""
    backwards = drawing.elements()[::-1]  # children before their parents
    named = {name: element for element in backwards if (name := element.get("id")) is not None}
    shown: dict[Element, Element] = {}
    for element in drawing.root.iter(f"{SVG}use"):
        target = named.get(next(filter(None, map(element.get, HREFS)), "").removeprefix("#"))
        if target is not None:
            shown[element] = target
    drawn = dict.fromkeys(backwards, 0)
    for _ in range(_DEEPEST_USES):
        before = sum(drawn.values()) if shown else -1
        for element in backwards:
            count = 1 + sum(map(drawn.__getitem__, element))
            if element in shown:
                count += drawn[shown[element]]
            drawn[element] = min(count, _MOST_DRAWN + 1)
        if drawn[drawing.root] > _MOST_DRAWN:
            break
        if before in (-1, sum(drawn.values())):
            return
    raise LeftAlone("its elements show one another too often to be drawn, so it is left alone")


def _refuse_what_cannot_be_proven(drawing: Drawing) -> None:
    """What a script or a page within would make of a drawing cannot be compared: neither runs here."""
    for element in drawing.root.iter():
        if element.tag in (f"{SVG}script", f"{SVG}handler"):
            raise LeftAlone("it holds a script, which is not run here, so it is left alone")
        if element.tag == f"{SVG}foreignObject":
            raise LeftAlone("it holds a piece of a page (foreignObject), so it is left alone")
        for name, value in element.attrib.items():
            if name.startswith("on") or value.lstrip()[:11].lower() == "javascript:":
                raise LeftAlone("it holds a script, which is not run here, so it is left alone")
