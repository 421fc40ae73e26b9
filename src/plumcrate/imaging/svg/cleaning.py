"""Taking out of a drawing what nobody sees: comments, what editors keep for themselves, names that nothing
uses, definitions that nothing shows; and writing what stays in few characters."""

from __future__ import annotations

import copy
import re
from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from xml.etree.ElementTree import Element

from ..kinds import Keep
from .document import HREFS, MOVING, SVG, XLINK, XML, Drawing
from .metadata import keep_kinds
from .paths import short_path
from .styles import Styles
from .values import (
    IDENTITY,
    Matrix,
    decimals_for,
    functions_of,
    joined,
    matrix_of,
    numbers_of,
    respelled,
    rounded,
    short_length,
    short_transform,
    stretch,
    times,
)

_REFERENCE = re.compile(r"url\(\s*[\"']?#([^\"'()]+)[\"']?\s*\)")
_BEGIN = re.compile(r"([A-Za-z_][\w:.-]*)\.(?:begin|end|click|mouse\w+|focus\w+|repeat|activate)\b")
_SELECTED = re.compile(r"#([A-Za-z_\u0080-\U0010ffff][\w\u0080-\U0010ffff-]*)")
#: Selectors that ask for an element's place among others, or for how it is written.
_STRUCTURAL = re.compile(r":(?:nth|first|last|only|empty|not|is|has|where|root)\b|[+~>\[]")
_SHAPES = frozenset(SVG + name for name in ("rect", "circle", "ellipse", "line"))
_GEOMETRY = frozenset(("x", "y", "width", "height", "cx", "cy", "r", "rx", "ry", "x1", "y1", "x2", "y2"))
#: What is only seen where something refers to it.
_REFERRED_TO = frozenset(
    SVG + name
    for name in ("linearGradient", "radialGradient", "pattern", "clipPath", "mask", "filter", "marker")
)
#: What other pages may refer to by its name: symbols and views of a sheet of symbols.
_FOR_OTHERS = frozenset(SVG + name for name in ("symbol", "view", "svg"))
#: In these a ``<g>`` means more than its children do.
_OWN_CHILDREN = frozenset(SVG + name for name in ("switch", "clipPath"))
_UNSEEN = frozenset(
    SVG + name
    for name in (
        "defs",
        "symbol",
        "pattern",
        "marker",
        "clipPath",
        "mask",
        "linearGradient",
        "radialGradient",
    )
)
#: A definition that only another unused one refers to goes after that; and so often.
_LONGEST_CHAIN = 20
#: Longer lists of when an animation begins are not gone through: every name then stays.
_LONGEST_TIMES = 2_000
#: How much finer is what is shown through another element, which may make it larger.
_REFERRED_FINER = 8.0


@dataclass(frozen=True, slots=True)
class Tolerance:
    """By which part of the drawing's longer side a point may move; 0: each number stays what it is.

    A drawing shown ``1 / part`` pixels wide has no point moved by more than one pixel.
    """

    part: float


def cleaned(drawing: Drawing, keep: Keep, tolerance: Tolerance) -> Drawing:
    """A drawing of its own that shows the same. ``keep``: the kinds of metadata that stay."""
    new = Drawing(copy.deepcopy(drawing.root), drawing.prefixes)
    sheets = new.style_sheets
    # Where a style sheet asks for an element's place or attributes, all of them stay.
    structural, by_attribute = bool(_STRUCTURAL.search(sheets)), "[" in sheets
    if not structural:
        _drop_foreign(new.root)
        for parent in new.root.iter():
            _only(parent, lambda child: child.tag != f"{SVG}metadata" or keep_kinds(child, keep))
        _drop_all_unused(new)
    if not by_attribute:
        styles = Styles(new)
        for element in new.root.iter():
            if element.tag.startswith(SVG) and element.tag != f"{SVG}metadata":
                styles.shorten(element)
        _shorten_root(new.root)
        _shorten_numbers(new.root, tolerance)
    if not structural:
        _unwrap(new.root)
    return new


def _drop_foreign(root: Element) -> None:
    """Elements and attributes of namespaces that no browser draws: what editors keep for themselves."""
    waiting = [root]
    while waiting:
        element = waiting.pop()
        if element.tag in (f"{SVG}metadata", f"{SVG}style"):
            continue
        for name in list(element.attrib):
            if name[:1] == "{" and not name.startswith((XLINK, XML)):
                del element.attrib[name]
        # Of a switch the first child that fits is drawn, were it one of which nothing is seen.
        if element.tag != f"{SVG}switch":
            _only(element, lambda child: child.tag.startswith(SVG))
        waiting += [child for child in element if child.tag.startswith(SVG)]


def _only(parent: Element, stays: Callable[[Element], bool]) -> bool:
    """Takes children out that do not stay; text behind them does. Whether there were any."""
    kept: list[Element] = []
    for child in parent:
        if stays(child):
            kept.append(child)
        elif (child.tail or "").strip():
            if kept:
                kept[-1].tail = (kept[-1].tail or "") + (child.tail or "")
            else:
                parent.text = (parent.text or "") + (child.tail or "")
    fewer = len(kept) < len(parent)
    if fewer:
        parent[:] = kept
    return fewer


class _Names:
    """Which names of elements something refers to: within the drawing, or from outside it."""

    def __init__(self, drawing: Drawing) -> None:
        self.used: set[str] = set()
        self._root = drawing.root
        confusing = False
        elements = drawing.elements()
        for element in elements:
            for name, value in element.attrib.items():
                if name in HREFS and value.startswith("#"):
                    self.used.add(value[1:])
                elif "url(" in value:
                    self.used.update(_REFERENCE.findall(value))
                elif name in ("begin", "end"):
                    confusing |= len(value) > _LONGEST_TIMES
                    self.used.update(_BEGIN.findall(value[:_LONGEST_TIMES]))
                elif name.startswith("aria-"):
                    self.used.update(value.split())
        sheets = drawing.style_sheets
        self.used.update(_REFERENCE.findall(sheets))
        self.used.update(_SELECTED.findall(sheets))
        #: A sheet of symbols is there for others; so is one that shows what an address asks for.
        self.for_others = (
            confusing or ":target" in sheets or not any(_is_seen(child) for child in drawing.root)
        )
        self.for_others |= any(element.tag == f"{SVG}view" for element in elements)

    def needs(self, element: Element) -> bool:
        for_others = self.for_others or (element.tag in _FOR_OTHERS and element is not self._root)
        return for_others or element.get("id") in self.used


def _is_seen(element: Element) -> bool:
    unseen = ("title", "desc", "metadata", "style", *(tag.removeprefix(SVG) for tag in _UNSEEN))
    return element.tag.removeprefix(SVG) not in unseen


def _drop_all_unused(drawing: Drawing) -> None:
    """Definitions and names that nothing needs."""
    names = _Names(drawing)
    for _ in range(_LONGEST_CHAIN):
        if not _drop_unused(drawing.root, names):
            break
        names = _Names(drawing)
    for element in drawing.root.iter():
        if "id" in element.attrib and not names.needs(element):
            del element.attrib["id"]


def _drop_unused(root: Element, names: _Names) -> bool:
    """Definitions that nothing shows, and groups of nothing; whether there were any."""
    if names.for_others:
        return False
    found = False
    for parent in root.iter():
        found |= _only(parent, partial(_is_used, names, parent.tag))
    return found


def _is_used(names: _Names, parent: str, child: Element) -> bool:
    if child.tag in (f"{SVG}g", f"{SVG}defs") and parent != f"{SVG}defs":
        alone = len(child) == 0 and not (child.text or "").strip()
        # An empty group with a filter may still paint something.
        return not alone or child.get("id") in names.used or "filter" in _looks(child)
    in_defs = parent == f"{SVG}defs" and child.tag != f"{SVG}style"
    if child.tag not in _REFERRED_TO and not in_defs:
        return True
    return any(
        one.get("id") in names.used or one.tag in _FOR_OTHERS or one.tag in MOVING for one in child.iter()
    )


def _looks(element: Element) -> str:
    return " ".join((*element.attrib, element.get("style", "")))


def _unwrap(root: Element) -> None:
    """Groups that say nothing give way to what they hold."""
    for parent in list(root.iter())[::-1]:  # the innermost first
        if parent.tag in _OWN_CHILDREN or not any(map(_says_nothing, parent)):
            continue
        children: list[Element] = []
        for child in parent:
            children += child if _says_nothing(child) else (child,)
        parent[:] = children


def _says_nothing(child: Element) -> bool:
    return child.tag == f"{SVG}g" and not child.attrib and not (child.tail or "").strip()


def _shorten_root(root: Element) -> None:
    """What the outermost element says that nothing follows from (SVG 2, 5.1 and 8.2)."""
    for name in ("version", "baseProfile", f"{XML}space" if not _has_letters(root) else ""):
        root.attrib.pop(name, None)
    for name in ("x", "y"):
        if short_length(root.get(name, "1")) == "0":
            del root.attrib[name]
    for name in ("width", "height"):
        if name in root.attrib:
            root.set(name, short_length(root.attrib[name]))
    box = numbers_of(root.get("viewBox", ""))
    if box:
        root.set("viewBox", " ".join(map(respelled, box)))


def _has_letters(root: Element) -> bool:
    return any(element.tag == f"{SVG}text" for element in root.iter())


def _shorten_numbers(root: Element, tolerance: Tolerance) -> None:
    """Rounds points to what is seen of them, by how large each element is drawn."""
    side = _longer_side(root)
    largest = max(1.0, _largest_stretch(root))
    waiting: list[tuple[Element, Matrix, bool]] = [(root, IDENTITY, False)]
    moving = {element.get("attributeName") for element in root.iter() if element.tag in MOVING}
    referred = {value[1:] for element in root.iter(f"{SVG}use") for value in map(element.get, HREFS) if value}
    while waiting:
        element, matrix, elsewhere = waiting.pop()
        if not element.tag.startswith(SVG) or element.tag in (f"{SVG}metadata", f"{SVG}style"):
            continue
        elsewhere |= element.tag in _UNSEEN or element.get("id") in referred
        functions = functions_of(element.get("transform", ""))
        inner = times(matrix, matrix_of(functions)) if functions else matrix
        unknown = largest * _REFERRED_FINER if elsewhere else 1.0
        _shorten_points(
            element, tolerance.part * side, side, stretch(matrix), stretch(inner), unknown, moving
        )
        # A part with a view of its own may be drawn at any size.
        elsewhere |= element is not root and "viewBox" in element.attrib
        waiting += [(child, inner, elsewhere) for child in element]


def _shorten_points(
    element: Element,
    tolerance: float,
    side: float,
    outside: float,
    inside: float,
    unknown: float,
    moving: set[str | None],
) -> None:
    if not outside or not inside:
        return
    own = tolerance / inside / unknown
    decimals = decimals_for(own)
    for name in ("transform", "gradientTransform", "patternTransform"):
        if name in element.attrib:
            # Colours shift over all of an area when its gradient does.
            about = tolerance / unknown / outside if name == "transform" else 0.0
            short = short_transform(element.attrib[name], about, max(side, 1.0))
            if short:
                element.set(name, short)
            else:
                del element.attrib[name]
    if "d" in element.attrib and "d" not in moving:
        element.set("d", short_path(element.attrib["d"], decimals))
    if "points" in element.attrib and "points" not in moving:
        numbers = numbers_of(element.attrib["points"])
        if numbers and len(numbers) % 2 == 0:
            short = joined([rounded(number, decimals) for number in numbers])
            if len(short) < len(element.attrib["points"]):
                element.set("points", short)
    if element.tag in _SHAPES:
        for name in _GEOMETRY & element.attrib.keys() - moving:
            element.set(name, short_length(element.attrib[name], decimals))


def _largest_stretch(root: Element) -> float:
    """The largest of what any chain of transforms makes of a length."""
    largest = 1.0
    waiting: list[tuple[Element, Matrix]] = [(root, IDENTITY)]
    while waiting:
        element, matrix = waiting.pop()
        functions = functions_of(element.get("transform", ""))
        inner = times(matrix, matrix_of(functions)) if functions else matrix
        largest = max(largest, stretch(inner))
        waiting += [(child, inner) for child in element]
    return largest


def _longer_side(root: Element) -> float:
    """Of the view, in its own units; 0 where nothing tells it."""
    box = numbers_of(root.get("viewBox", ""))
    if box and len(box) == 4:
        return max(float(box[2]), float(box[3]))
    sides = [short_length(root.get(name, "")) for name in ("width", "height")]
    numbers = [numbers_of(side) for side in sides]
    return max((float(found[0]) for found in numbers if found), default=0.0)
