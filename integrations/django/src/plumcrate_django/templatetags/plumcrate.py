"""``{% load plumcrate %}``: named sizes, what a browser may choose from, the point that matters, what a
picture says."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from django import template
from django.utils.html import conditional_escape
from django.utils.translation import get_language

from ..conf import site
from ..service import service

register = template.Library()


@register.simple_tag
def size_url(file: Any, size: str) -> str:
    """``{% size_url picture.file "card" %}``: the address of the file that was made for a size of the
    library; the picture's own where there is none."""
    made = _sizes(file, size)
    return str(_url(file, made[0].path) if made else file.url)


@register.simple_tag
def size_srcset(file: Any, size: str) -> str:
    """``{% size_srcset picture.file "card" %}``: all widths of a size, as srcset has them; the picture's own
    address where there are none."""
    made = _sizes(file, size)
    return ", ".join(f"{_url(file, one.path)} {one.width}w" for one in made) or str(file.url)


@register.simple_tag
def focus(file: Any) -> str:
    """``style="object-position: {% focus picture.file %}"``: the point that matters, the middle where nobody
    chose one."""
    found = service().files([file.name]).get(file.name)
    point = found.focus if found is not None else None
    return "50% 50%" if point is None else f"{point.x:.0%} {point.y:.0%}"


@register.simple_tag
def description(file: Any, language: str = "") -> str:
    """``alt="{% description picture.file %}"``: what the picture says in the page's language; empty where it
    is decorative, or nobody described it in that language."""
    found = service().files([file.name]).get(file.name)
    return conditional_escape(said_in(found.alternatives, language or get_language() or "")) if found else ""


def said_in(alternatives: Mapping[str, str], language: str) -> str:
    """The text in this language, else in another form of it: ``de-CH`` for ``de``."""
    wanted = language.lower()
    for tag, text in alternatives.items():
        if tag.lower() == wanted:
            return text
    first = wanted.partition("-")[0]
    alike = (text for tag, text in alternatives.items() if tag.lower().partition("-")[0] == first)
    return next(alike, "")


def _sizes(file: Any, size: str) -> list[Any]:
    found = service().files([file.name]).get(file.name)
    return [] if found is None else [one for one in found.sizes if one.size_name == size]


def _url(file: Any, path: str) -> str:
    return str(file.storage.url(site().name_of(path)))
