"""Which language a short text is in, by its small words (articles, prepositions, conjunctions).

It says nothing rather than something wrong: a text of few small words, or of words that languages share, is
of no language it knows.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

_SMALL_WORDS = {
    "en": "the of and with at from over under on in by an is are behind near into against is its his her",
    "de": "der die das und mit auf dem den von im am ein eine einem einer über unter vor hinter bei ist zum",
    "fr": "le la les des du et avec sur dans un une au aux sous derrière près est sont devant chez",
    "es": "el la los las del y con sobre en una al bajo detrás cerca es son desde hacia ante",
    "it": "il lo gli della delle dei del e con su sul sulla nel nella una sotto dietro vicino è sono di",
    "nl": "de het een en met op van aan bij onder achter naast is zijn voor naar over uit",
    "pt": "o os as da das do dos e com sobre em uma no na nos nas sob atrás perto é são",
    "da": "og med på af et en den det i til under bag ved er fra over hos",
    "sv": "och med på av ett en den det i till under bakom vid är från över hos",
    "pl": "i w na z ze pod nad przy do od jest są za przed między oraz",
}
_WORDS = {language: frozenset(words.split()) for language, words in _SMALL_WORDS.items()}
#: So many small words of a language say that a text is in it.
_ENOUGH = 3


def language_of(words: Sequence[str]) -> str | None:
    """The language of a text, by its words in small letters; None where it cannot be told for sure."""
    if len(words) < _ENOUGH:
        return None
    found = Counter({language: sum(word in known for word in words) for language, known in _WORDS.items()})
    (best, most), (_, next_most) = found.most_common(2)
    return best if most >= _ENOUGH and most >= 2 * next_most else None
