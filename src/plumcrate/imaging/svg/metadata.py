"""What a drawing says of itself in RDF (SVG 1.1, 21), kept by kind."""

from __future__ import annotations

from xml.etree.ElementTree import Element

from ..kinds import EVERYTHING, Keep, Kind
from ..metadata.xmp import kind_of
from .document import RDF

_CC = "{http://creativecommons.org/ns#}"
_STATEMENTS = (f"{_CC}Work", f"{RDF}Description")


def keep_kinds(metadata: Element, keep: Keep) -> bool:
    """Takes the statements of other kinds out of a ``<metadata>`` element; whether any is left."""
    if keep == EVERYTHING:
        return True
    left = False
    for description in metadata.iter(f"{RDF}RDF"):
        for work in list(description):
            if work.tag == f"{_CC}License" and Kind.RIGHTS in keep:
                continue
            if work.tag in _STATEMENTS:
                for statement in list(work):
                    if not (kind_of(statement.tag) in keep and _says_something(statement)):
                        work.remove(statement)
            if work.tag in _STATEMENTS and len(work):
                left = True
            else:
                description.remove(work)
    if not left:
        return False
    for child in list(metadata):
        if child.tag != f"{RDF}RDF":
            metadata.remove(child)
    return True


def _says_something(statement: Element) -> bool:
    resource = f"{RDF}resource"
    return any((one.text or "").strip() or one.get(resource) for one in statement.iter())
