"""How large a document shows each of its pictures: read off the content of its pages (ISO 32000-2, 8.3.4)."""

from __future__ import annotations

import math
from collections.abc import Iterator
from typing import Any

import pikepdf

#: A page's content, or a form's within a form, is followed so deep.
_DEEPEST = 6
#: So many contents are read of a page; one that names its forms more often is a trap.
_MOST_CONTENTS = 2_000
_Matrix = tuple[float, float, float, float, float, float]
_UNITY: _Matrix = (1.0, 0.0, 0.0, 1.0, 0.0, 0.0)
_Number = tuple[int, int]


def shown_inches(pdf: pikepdf.Pdf) -> dict[_Number, tuple[float, float]]:
    """The largest width and height, in inches, at which each picture is shown, by its object's number.

    Pictures that are also shown by what is not followed here (patterns, notes) are left out, as are those of
    a page whose content cannot be read: nothing is known of their size.
    """
    found: dict[_Number, tuple[float, float]] = {}
    unknown: set[_Number] = set()
    for page in pdf.pages:
        unit = float(page.obj.get("/UserUnit", 1)) / 72
        try:
            _follow(
                page.obj,
                page.resources,
                (unit, 0.0, 0.0, unit, 0.0, 0.0),
                found,
                unknown,
                0,
                [_MOST_CONTENTS],
            )
        except (pikepdf.PdfError, ValueError, TypeError, KeyError, AttributeError, RecursionError):
            unknown |= set(_pictures_of(page.resources, 0, set()))
        for note in page.obj.get("/Annots", ()):
            if isinstance(note, pikepdf.Dictionary) and "/AP" in note:
                unknown |= set(_pictures_in(note["/AP"], 0, set()))
    return {number: size for number, size in found.items() if number not in unknown}


def _follow(
    content: Any,
    resources: Any,
    matrix: _Matrix,
    found: dict[_Number, tuple[float, float]],
    unknown: set[_Number],
    depth: int,
    left: list[int],
) -> None:
    left[0] -= 1
    if left[0] < 0:
        raise ValueError("too many contents within contents")
    if not isinstance(resources, pikepdf.Dictionary):
        return
    for pattern in resources.get("/Pattern", pikepdf.Dictionary()).values():
        unknown |= set(_pictures_in(pattern, depth, set()))
    shown = resources.get("/XObject", pikepdf.Dictionary())
    saved: list[_Matrix] = []
    instructions: Any = pikepdf.parse_content_stream(content, "q Q cm Do")
    for operands, operator in instructions:
        name = str(operator)
        if name == "q":
            saved.append(matrix)
        elif name == "Q":
            matrix = saved.pop() if saved else matrix
        elif name == "cm":
            matrix = _within(_numbers(operands), matrix)
        elif str(operands[0]) in shown:
            one = shown[str(operands[0])]
            if one.get("/Subtype") == "/Image":
                across, down = math.hypot(*matrix[:2]), math.hypot(*matrix[2:4])
                former = found.get(one.objgen, (0.0, 0.0))
                found[one.objgen] = max(across, former[0]), max(down, former[1])
            elif depth < _DEEPEST:
                inner = _within(_numbers(one.get("/Matrix", _UNITY)), matrix)
                own = one.get("/Resources", resources)
                _follow(one, own, inner, found, unknown, depth + 1, left)
            else:
                unknown |= set(_pictures_in(one, 0, set()))


def _numbers(values: Any) -> _Matrix:
    a, b, c, d, e, f = (float(value) for value in values)
    return a, b, c, d, e, f


def _within(inner: _Matrix, outer: _Matrix) -> _Matrix:
    """What a matrix becomes in the space of another."""
    a, b, c, d, e, f = inner
    g, h, i, j, k, m = outer
    return (a * g + b * i, a * h + b * j, c * g + d * i, c * h + d * j, e * g + f * i + k, e * h + f * j + m)


def _pictures_in(value: Any, depth: int, seen: set[_Number]) -> Iterator[_Number]:
    """The pictures that an appearance, a pattern or a form may show; each object is looked at once."""
    if depth > _DEEPEST or not isinstance(value, pikepdf.Dictionary | pikepdf.Stream):
        return
    if value.is_indirect:
        if value.objgen in seen:
            return
        seen.add(value.objgen)
    if value.get("/Subtype") == "/Image":
        yield value.objgen
        return
    if "/Resources" in value:
        yield from _pictures_of(value["/Resources"], depth + 1, seen)
    if isinstance(value, pikepdf.Dictionary):
        for one in value.values():
            yield from _pictures_in(one, depth + 1, seen)


def _pictures_of(resources: Any, depth: int, seen: set[_Number]) -> Iterator[_Number]:
    if isinstance(resources, pikepdf.Dictionary):
        for kind in ("/XObject", "/Pattern"):
            for one in resources.get(kind, pikepdf.Dictionary()).values():
                yield from _pictures_in(one, depth, seen)
