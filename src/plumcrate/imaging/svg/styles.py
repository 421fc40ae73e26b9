"""What elements look like: presentation attributes and ``style``, without what says nothing."""

from __future__ import annotations

import re
from collections.abc import Iterable
from xml.etree.ElementTree import Element

from .document import MOVING, SVG, Drawing
from .values import NUMBER, respelled, short_colour, short_length

_PLAIN_NUMBER = re.compile(rf"\s*({NUMBER})\s*\Z")
_COLOURS = frozenset(("fill", "stroke", "stop-color", "flood-color", "lighting-color", "color"))
_LENGTHS = frozenset(("stroke-width", "stroke-dashoffset"))
_NUMBERS = frozenset(
    ("opacity", "fill-opacity", "stroke-opacity", "stop-opacity", "flood-opacity", "stroke-miterlimit")
)
#: What properties are anyway (SVG 1.1, appendix N). Those that children take over are only left out where no
#: element that has children says otherwise.
_OWN = {
    "opacity": "1",
    "stop-opacity": "1",
    "flood-opacity": "1",
    "clip-path": "none",
    "mask": "none",
    "filter": "none",
    "mix-blend-mode": "normal",
    "isolation": "auto",
    "text-decoration": "none",
    "vector-effect": "none",
}
_TAKEN_OVER = {
    "fill": "#000",
    "fill-opacity": "1",
    "fill-rule": "nonzero",
    "stroke": "none",
    "stroke-width": "1",
    "stroke-linecap": "butt",
    "stroke-linejoin": "miter",
    "stroke-miterlimit": "4",
    "stroke-dasharray": "none",
    "stroke-dashoffset": "0",
    "stroke-opacity": "1",
    "visibility": "visible",
    "clip-rule": "nonzero",
    "color-interpolation": "sRGB",
    "color-interpolation-filters": "linearRGB",
    "paint-order": "normal",
    "marker": "none",
    "marker-start": "none",
    "marker-mid": "none",
    "marker-end": "none",
}
_DEFAULTS = _OWN | _TAKEN_OVER
#: Properties of letters, which a drawing without any has no use for.
_OF_TEXT = (
    "font",
    "text-",
    "letter-spacing",
    "word-spacing",
    "line-height",
    "writing-mode",
    "baseline-shift",
    "dominant-baseline",
    "alignment-baseline",
    "glyph-orientation",
    "block-progression",
    "white-space",
    "direction",
    "unicode-bidi",
    "shape-padding",
    "shape-margin",
    "inline-size",
    "kerning",
)
#: No browser knows these any more, or ever did.
_DEAD = ("enable-background", "solid-color", "solid-opacity", "color-profile", "color-rendering")
_TEXT = frozenset(SVG + name for name in ("text", "tspan", "textPath", "tref", "altGlyph"))
_SHAPES = frozenset(
    SVG + name for name in ("path", "rect", "circle", "ellipse", "line", "polyline", "polygon")
)
_EM = re.compile(r"\d(?:em|ex|ch|rem|lh)\b")
#: Where white space and case matter little, a declaration ends at a semicolon that stands for itself.
_DECLARATION = re.compile(r"((?:[^;\"'(]|\"[^\"]*\"|'[^']*'|\((?:[^\"'()]|\"[^\"]*\"|'[^']*')*\))*)(?:;|\Z)")


def properties_of(style: str) -> dict[str, str] | None:
    """A ``style`` attribute's declarations; None for what is better left as it is."""
    if "/*" in style or "\\" in style or "{" in style:
        return None
    found: dict[str, str] = {}
    at = 0
    while at < len(style):
        match = _DECLARATION.match(style, at)
        if match is None or match.end() == at:
            return None
        name, colon, value = match.group(1).partition(":")
        if colon:
            found.pop(name.strip(), None)  # the last one counts, in its place
            found[name.strip()] = value.strip()
        elif name.strip():
            return None
        at = match.end()
    return found


class Styles:
    """What of a drawing's looks may go; found once for the whole of it."""

    def __init__(self, drawing: Drawing) -> None:
        sheets = drawing.style_sheets
        self.sheets = bool(sheets.strip())
        elements = drawing.elements()
        self._letters = any(element.tag in _TEXT for element in elements) or self.sheets
        self._letters |= any(_EM.search(value) for element in elements for value in element.attrib.values())
        self._set = _said_by_parents(elements) if not self.sheets else set(_TAKEN_OVER)
        self._moving = {element.get("attributeName", "") for element in elements if element.tag in MOVING}

    def shorten(self, element: Element) -> None:
        """Shortens an element's presentation attributes and its style."""
        style = element.get("style")
        declared = properties_of(style) if style is not None else {}
        if declared is None:
            self._attributes(element, frozenset(), certain=False)
            return
        self._attributes(element, declared.keys(), certain=True)
        if style is None:
            return
        kept = {
            name: _short(name, value)
            for name, value in declared.items()
            if not self._says_nothing(element, name, value, frozenset(element.attrib))
        }
        if self._has_no_line(element, kept):
            kept = {name: value for name, value in kept.items() if not name.startswith("stroke-")}
        if kept:
            element.set("style", ";".join(f"{name}:{value}" for name, value in kept.items()))
        else:
            del element.attrib["style"]

    def _has_no_line(self, element: Element, kept: dict[str, str]) -> bool:
        """Whether a shape is drawn without a line, whatever that would look like."""
        if self.sheets or self._moving or element.tag not in _SHAPES or len(element):
            return False
        taken_over = None if "stroke" in self._set else "none"
        return kept.get("stroke", element.get("stroke", taken_over)) == "none"

    def _attributes(self, element: Element, declared: Iterable[str], *, certain: bool) -> None:
        """Presentation attributes; what ``style`` says too is over them."""
        for name, value in list(element.attrib.items()):
            if (name in declared and name in _DEFAULTS and name not in self._moving and not self.sheets) or (
                certain and self._says_nothing(element, name, value, frozenset())
            ):
                del element.attrib[name]
            elif name in _COLOURS or name in _NUMBERS or name in _LENGTHS:
                element.set(name, _short(name, value))

    def _says_nothing(self, element: Element, name: str, value: str, beside: frozenset[str]) -> bool:
        """``beside``: names of which an attribute stands under the declaration."""
        if self.sheets or name in self._moving:
            return False
        if name.startswith("-") or name in _DEAD:
            return True
        if name.startswith(_OF_TEXT):
            return not self._letters
        default = _DEFAULTS.get(name)
        if default is None or name in self._set or name in beside or element.tag in MOVING:
            return False
        return _short(name, value) == default


def _said_by_parents(elements: list[Element]) -> set[str]:
    """Properties that an element with children, or one that shows another, sets to what they are not
    anyway."""
    found: set[str] = set()
    for element in elements:
        if not len(element) and element.tag != f"{SVG}use":
            continue
        declared = properties_of(element.get("style", ""))
        if declared is None:
            return set(_TAKEN_OVER)
        for name, value in (*element.attrib.items(), *declared.items()):
            if name in _TAKEN_OVER and _short(name, value) != _TAKEN_OVER[name]:
                found.add(name)
                if name == "marker":
                    found |= {"marker-start", "marker-mid", "marker-end"}
    return found


def _short(name: str, value: str) -> str:
    if name in _COLOURS:
        return short_colour(value)
    if name in _LENGTHS:
        return short_length(value)
    if name in _NUMBERS:
        match = _PLAIN_NUMBER.match(value)
        return respelled(match.group(1)) if match else value
    return value
