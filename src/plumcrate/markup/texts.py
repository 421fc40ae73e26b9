"""Which alternative text is written for an ``<img>``: HTML standard, section 4.8.4.4.

A page's own ``alt`` is its author's, an empty one too: it says that the picture is decorative.
"""

from __future__ import annotations

from plumcrate.contract.delivery import Markup, PageFile, WrittenTexts

from .tokenizer import Tag

#: Attributes that say as much as ``alt``, or that there is nothing to say (WAI-ARIA 1.2).
_SAY = ("aria-label", "aria-labelledby", "aria-hidden")


def alternative_for(file: PageFile, language: str) -> str | None:
    """What the picture says in a page of this language; None where nobody described it in that language.

    A page that states no language is taken for one of the library's first.
    """
    known = file.alternatives
    if not language:
        return next(iter(known.values()), None)
    language = language.lower()
    exact = (text for tag, text in known.items() if tag.lower() == language)
    alike = (text for tag, text in known.items() if _first(tag) == _first(language))
    return next(exact, next(alike, None))


def _first(language: str) -> str:
    return language.lower().partition("-")[0]


def lacks_text(rules: Markup, tag: Tag) -> bool:
    """Whether a text is to be put in. Of two attributes of one name browsers heed the first (HTML standard,
    13.2.5.33), which is where ours stands."""
    if rules.alternatives is WrittenTexts.NONE:
        return False
    if rules.alternatives is WrittenTexts.ALL:
        return True
    return "alt" not in tag.attributes and not any(name in tag.attributes for name in _SAY)
