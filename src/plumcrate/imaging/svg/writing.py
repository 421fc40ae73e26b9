"""Writing a drawing: a serializer of our own, UTF-8 without a declaration (XML 1.0, 2.8 and 4.3.3)."""

from __future__ import annotations

from xml.etree.ElementTree import Element

from .document import RDF, SVG, XLINK, XML, Drawing

_TEXTUAL = frozenset(
    SVG + name for name in ("text", "tspan", "textPath", "tref", "title", "desc", "style", "a", "altGlyph")
)


def written(drawing: Drawing) -> bytes:
    """The bytes of a drawing; what namespaces are used is said once, on its root."""
    names = _Names(drawing)
    out: list[str] = []
    #: Elements whose end is still to be written are tags, without their content.
    waiting: list[Element | str] = [drawing.root]
    while waiting:
        item = waiting.pop()
        if isinstance(item, str):
            out.append(item)
            continue
        tag = names.element(item.tag)
        out.append(f"<{tag}")
        if item is drawing.root:
            out += names.declarations()
        out += [f' {names.attribute(name)}="{_quoted(value)}"' for name, value in item.attrib.items()]
        text = _text_in(item)
        if not len(item) and not text:
            out.append("/>")
            continue
        out.append(f">{_escaped(text)}")
        waiting.append(f"</{tag}>")
        for child in reversed(item):
            tail = child.tail or ""
            if item.tag in _TEXTUAL or tail.strip():
                waiting.append(_escaped(tail))
            waiting.append(child)
    return "".join(out).encode()


def _text_in(element: Element) -> str:
    text = element.text or ""
    return text if text.strip() or element.tag in _TEXTUAL else ""


class _Names:
    """Names as they are written: SVG's own without a prefix, others with the file's."""

    def __init__(self, drawing: Drawing) -> None:
        self._prefixes: dict[str, str] = {}
        for element in drawing.root.iter():
            if element.tag[:1] == "{" and not element.tag.startswith(SVG):
                self._add(element.tag, drawing)
            for name in element.attrib:
                if name[:1] == "{":
                    self._add(name, drawing)

    def _add(self, name: str, drawing: Drawing) -> None:
        space = name[1 : name.index("}")]
        if space in self._prefixes or name.startswith(XML):
            return
        usual = {XLINK[1:-1]: "xlink", RDF[1:-1]: "rdf"}.get(space) or drawing.prefixes.get(space) or ""
        taken = set(self._prefixes.values())
        number = 0
        prefix = usual
        while not prefix or prefix in taken:
            number += 1
            prefix = f"{usual or 'n'}{number}"
        self._prefixes[space] = prefix

    def declarations(self) -> list[str]:
        own = f' xmlns="{SVG[1:-1]}"'
        return [own, *(f' xmlns:{prefix}="{_quoted(space)}"' for space, prefix in self._prefixes.items())]

    def element(self, name: str) -> str:
        return name.removeprefix(SVG) if name.startswith(SVG) else self._prefixed(name)

    def attribute(self, name: str) -> str:
        return self._prefixed(name) if name[:1] == "{" else name

    def _prefixed(self, name: str) -> str:
        if name[:1] != "{":
            return name
        if name.startswith(XML):
            return "xml:" + name.removeprefix(XML)
        space, _, local = name[1:].partition("}")
        return f"{self._prefixes[space]}:{local}"


def _escaped(text: str) -> str:
    return text.replace("&", "&amp;").replace("<", "&lt;").replace("]]>", "]]&gt;").replace("\r", "&#13;")


def _quoted(text: str) -> str:
    text = text.replace("&", "&amp;").replace("<", "&lt;").replace('"', "&quot;")
    return text.replace("\t", "&#9;").replace("\n", "&#10;").replace("\r", "&#13;")
