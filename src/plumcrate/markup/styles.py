"""Backgrounds in style attributes (CSS Style Attributes; CSS Images 4, section 2.4 on ``image-set``)."""

from __future__ import annotations

from collections.abc import Callable

import tinycss2
from tinycss2.ast import Declaration, FunctionBlock, Node, URLToken

_NAMES = ("background", "background-image")


def addresses_of(style: str) -> list[str]:
    """The addresses that the last background of a style names."""
    found = _background(style)
    return [] if found is None else [address for layer in _layers(found) for address in _urls(layer)]


def with_image_set(style: str, sources_of: Callable[[str], list[tuple[str, str]]]) -> str | None:
    """The declaration to be put behind a style, so that its background comes in the lightest form that a
    browser knows; None where there is nothing to gain.

    ``sources_of`` gives addresses with their media types for an address, the best first, itself last; or
    nothing. Browsers that do not know ``image-set`` drop the declaration and keep the one before.
    """
    found = _background(style)
    if found is None:
        return None
    layers, gained = [], False
    for layer in _layers(found):
        urls = _urls(layer)
        if len(urls) != 1:
            if urls or any(isinstance(node, FunctionBlock) for node in layer):
                return None  # gradients and the like stay with what the page says
            layers.append("none")
            continue
        sources = sources_of(urls[0])
        gained = gained or bool(sources)
        layers.append(
            "image-set(" + ",".join(f"url({_quoted(at)}) type('{kind}')" for at, kind in sources) + ")"
            if sources
            else f"url({_quoted(urls[0])})"
        )
    if not gained:
        return None
    return f"background-image:{','.join(layers)}{'!important' if found.important else ''}"


def _background(style: str) -> Declaration | None:
    """The last background that names an address, unless the style knows ``image-set`` already."""
    if "image-set" in style.lower():
        return None
    last: Declaration | None = None
    for node in tinycss2.parse_blocks_contents(style, skip_comments=True, skip_whitespace=True):
        if isinstance(node, Declaration) and node.lower_name in _NAMES:
            last = node
    return last


def _layers(declaration: Declaration) -> list[list[Node]]:
    layers: list[list[Node]] = [[]]
    for node in declaration.value:
        if node.type == "literal" and node.value == ",":
            layers.append([])
        else:
            layers[-1].append(node)
    return layers


def _urls(layer: list[Node]) -> list[str]:
    found = []
    for node in layer:
        if isinstance(node, URLToken):
            found.append(node.value)
        elif isinstance(node, FunctionBlock) and node.lower_name == "url":
            found += [argument.value for argument in node.arguments if argument.type == "string"]
    return found


def _quoted(address: str) -> str:
    """Within single quotes, since the attribute may stand in double ones."""
    return "'" + address.replace("\\", "\\\\").replace("'", "%27").replace("\n", "%0A") + "'"
