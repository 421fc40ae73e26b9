"""What may be wanting of an alternative text, judged by the text alone, in time proportional to its length.

By the guidance of WCAG 2.2, success criterion 1.1.1, and the W3C's Images Tutorial: a text says what the
picture says, needs no "image of", is no file name, and is no list of keywords.
"""

from __future__ import annotations

import hashlib
import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field

from plumcrate.contract.descriptions import DescriptionRule, DescriptionSettings, Texts

from .languages import language_of

_WORD = re.compile(r"[^\W_]+")
_ENDING = re.compile(r"\.(jpe?g|png|gif|webp|avif|tiff?|bmp|svg|heic)\Z", re.IGNORECASE)
#: What cameras and phones call their files: IMG_2041, DSC00412, P1010001, 20260711_101500.
CAMERA = re.compile(r"([a-z]{1,5}[ _-]?\d{3,}([ _-]\d+)*|\d{5,}([ _-]\d+)*)\Z", re.IGNORECASE)
_KINDS = "image|picture|photo|photograph|graphic|bild|foto|fotografie|grafik|photographie|imagen|fotografía"
_MORE_KINDS = "afbeelding|immagine|fotografia|imagem|billede|zdjęcie|obraz"
_OF = "of|showing|von|des|der|mit|de|du|d|van|di|del|della|da|do|af|av"
_OPENING = re.compile(rf"((a|an|the|ein|eine|une?|een) )?({_KINDS}|{_MORE_KINDS})( ({_OF})\b|s? ?:)")
#: A word of so many letters that stands so often is repeated for machines; so are so many parts of few words.
_CONTENT, _REPEATED, _PARTS, _WORDS_A_PART, _MOST_TERMS = 4, 3, 5, 2.5, 2


def words_of(text: str) -> list[str]:
    """Its words in small letters."""
    return _WORD.findall(text.casefold())


def fold_of(text: str) -> str | None:
    """The same for texts that differ in case, spaces and punctuation only; None for an empty one."""
    words = words_of(text)
    return hashlib.sha256(" ".join(words).encode()).hexdigest()[:32] if words else None


@dataclass(frozen=True)
class Terms:
    """Search terms as a text is held against them: each as its words."""

    by_first: dict[str, list[tuple[str, ...]]] = field(default_factory=dict)

    @classmethod
    def of(cls, terms: Sequence[Sequence[str]]) -> Terms:
        by_first: dict[str, list[tuple[str, ...]]] = {}
        for words in terms:
            if words:
                by_first.setdefault(words[0], []).append(tuple(words))
        return cls(by_first)

    def within(self, words: Sequence[str]) -> int:
        """How many of the terms have all their words in a text."""
        known = set(words)
        return sum(known.issuperset(term) for word in known for term in self.by_first.get(word, ()))


def faults_of(
    texts: Texts, *, path: str, language: str, settings: DescriptionSettings, terms: Terms
) -> list[DescriptionRule]:
    """What is wanting of a text that is there; whether it is missing or doubled is asked elsewhere."""
    text = texts.alternative
    if not text:
        return []
    words = words_of(text)
    found = []
    if _is_file_name(text, words, path):
        found.append(DescriptionRule.FILE_NAME)
    if len(text) > settings.longest:
        found.append(DescriptionRule.TOO_LONG)
    if _OPENING.match(text.casefold().replace("’", " ").replace("'", " ")):
        found.append(DescriptionRule.OPENING)
    if _is_stuffed(text, words, terms):
        found.append(DescriptionRule.STUFFED)
    told = language_of(words)
    if told is not None and told != language.partition("-")[0]:
        found.append(DescriptionRule.LANGUAGE)
    return found


def _is_file_name(text: str, words: list[str], path: str) -> bool:
    plain = _ENDING.sub("", text.strip())
    if plain != text.strip() or CAMERA.match(plain):
        return True
    stem = path.rpartition("/")[2].rpartition(".")[0]
    # A name of several words that somebody gave a file with care may be what the picture says.
    return text.strip().casefold() == stem.casefold() and (len(words) < 2 or " " not in text.strip())


def _is_stuffed(text: str, words: list[str], terms: Terms) -> bool:
    content = Counter(word for word in words if len(word) >= _CONTENT)
    if content and max(content.values()) >= _REPEATED:
        return True
    parts = [part for part in re.split(r"[,;|/•]", text) if part.strip()]
    if len(parts) >= _PARTS and len(words) / len(parts) <= _WORDS_A_PART:
        return True
    return terms.within(words) > _MOST_TERMS


def reason_of(rule: DescriptionRule, settings: DescriptionSettings) -> str:
    """What a rule says to a person."""
    return {
        DescriptionRule.MISSING: "It says nothing: whoever does not see it hears the file's name, or "
        "nothing. Describe it, or say that it is decorative.",
        DescriptionRule.DOUBLED: "Another picture says the same: say what tells them apart.",
        DescriptionRule.FILE_NAME: "This is a file's name. Say what the picture shows.",
        DescriptionRule.TOO_LONG: f"It has more than {settings.longest} characters: some screen readers read "
        "it in pieces. Put the rest into the caption.",
        DescriptionRule.OPENING: "A screen reader says already that it is a picture: begin with what it "
        "shows.",
        DescriptionRule.STUFFED: "It reads like a list of search words. Write one sentence for people.",
        DescriptionRule.LANGUAGE: "It seems to be in another language than the page: it would be read out "
        "with the wrong voice.",
    }[rule]
