"""Where the tags of an HTML page stand: the tokenizer of the HTML standard, section 13.2.5.

It reports tags only. Text, comments, doctypes and the contents of raw text elements are passed over as the
standard's states pass over them, so that a ``<img>`` in a script, a comment or a title is none. It is fed in
pieces, and holds back no more than a token that has not ended.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property

from .references import decoded

_SPACE = r"\t\n\f\r "
#: The states of section 13.2.5.33 to 13.2.5.39, for one attribute. What is open at the end does not match.
_ATTRIBUTE = (
    rf"(?P<name>[^{_SPACE}/>][^{_SPACE}/>=]*+)"
    rf"(?:[{_SPACE}]*+=[{_SPACE}]*+"
    rf"""(?:"(?P<double>[^"]*+)"|'(?P<single>[^']*+)'|(?=>)|(?P<bare>[^{_SPACE}>"'][^{_SPACE}>]*+))"""
    rf"|(?![{_SPACE}]*+(?:=|\Z)))"
)
_ATTRIBUTES = re.compile(_ATTRIBUTE)
_TAG = re.compile(
    rf"<(/?)([A-Za-z][^{_SPACE}/>]*+)(?:[{_SPACE}/]++|" + re.sub(r"\?P<\w+>", "?:", _ATTRIBUTE) + r")*+>"
)
_LETTERS = frozenset("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ")
#: Sections 13.2.6.2 and 13.2.6.4: their content is text; of ``noscript`` it is where scripts run.
_TEXT = frozenset(
    ("script", "style", "textarea", "title", "xmp", "iframe", "noembed", "noframes", "noscript")
)
#: Section 13.2.6.5: foreign content, what brings HTML back within it, and what breaks out of it.
_FOREIGN = frozenset(("svg", "math"))
_INTEGRATION = frozenset(
    ("foreignobject", "desc", "title", "mi", "mo", "mn", "ms", "mtext", "annotation-xml")
)
_BREAKS_OUT = frozenset(
    (
        "b",
        "big",
        "blockquote",
        "body",
        "br",
        "center",
        "code",
        "dd",
        "div",
        "dl",
        "dt",
        "em",
        "embed",
        "h1",
        "h2",
        "h3",
        "h4",
        "h5",
        "h6",
        "head",
        "hr",
        "i",
        "img",
        "li",
        "listing",
        "menu",
        "meta",
        "nobr",
        "ol",
        "p",
        "pre",
        "ruby",
        "s",
        "small",
        "span",
        "strong",
        "strike",
        "sub",
        "sup",
        "table",
        "tt",
        "u",
        "ul",
        "var",
    )
)
#: A tag that is open for so many characters is looked at again only when twice as many are there.
_LONG = 4_096
#: The end of a comment, section 13.2.5.43 and on.
_COMMENT_END = re.compile(r"--!?>")
_SCRIPT_EVENT = re.compile(rf"<!--|-->|<(/?)script(?=[{_SPACE}/>])", re.IGNORECASE)


@dataclass(frozen=True, slots=True)
class Attribute:
    """``start`` and ``end``: of the value within the page, without quotes. ``value`` is as written, and
    ``quote`` what it is written in: ``"``, ``'`` or nothing."""

    name: str
    value: str
    start: int
    end: int
    quote: str

    @property
    def text(self) -> str:
        """The value with character references decoded."""
        return decoded(self.value)


class Tag:
    """A start or end tag from ``start`` to ``end``, offsets in the page, in characters. ``foreign``: it
    stands in SVG or MathML, or has just broken out of it."""

    def __init__(self, name: str, closing: bool, start: int, end: int, source: str, foreign: bool) -> None:
        self.name, self.closing = name, closing
        self.start, self.end, self.source = start, end, source
        self.foreign = foreign

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Tag) and (self.start, self.source) == (other.start, other.source)

    __hash__ = None  # type: ignore[assignment]

    @cached_property
    def attributes(self) -> dict[str, Attribute]:
        """By name in lower case; of several with one name the first counts (section 13.2.5.33)."""
        found: dict[str, Attribute] = {}
        for match in _ATTRIBUTES.finditer(self.source, len(self.name) + 1):
            name = match["name"].lower()
            kind = next((kind for kind in ("double", "single", "bare") if match[kind] is not None), None)
            start, end = match.span(kind) if kind else (match.end(), match.end())
            quote = {"double": '"', "single": "'"}.get(kind or "", "")
            found.setdefault(
                name,
                Attribute(name, match[kind] if kind else "", self.start + start, self.start + end, quote),
            )
        return found

    @property
    def after_name(self) -> int:
        """The offset just behind the name, where attributes can be put in."""
        return self.start + 1 + len(self.name)


class Tokenizer:
    """``offset`` is where the text that is held back begins; all before it has been passed on."""

    def __init__(self) -> None:
        self.offset = 0
        self.held = ""
        self._at = 0  # within what is held
        self._ended = False
        self._raw: str | None = None  # the raw text element that is open
        self._escaped = 0  # within a script: 1 in a comment, 2 in a script within it (13.2.5.20 and on)
        self._until: tuple[str, ...] = ()  # what ends the comment, section or declaration that is open
        self._plain = False
        self._foreign: list[str] = []
        self._places: defaultdict[str, list[int]] = defaultdict(list)  # of each name within it
        self._again_at = 0  # an open token is tried again when so much is held

    def feed(self, text: str) -> Iterator[Tag]:
        """The tags that end within what was fed so far."""
        self.held = self.held[self._at :] + text
        self.offset += self._at
        self._at = 0
        if len(self.held) < self._again_at:
            return
        self._again_at = 0
        yield from self._tags()

    def close(self) -> Iterator[Tag]:
        """No more comes: the last tags. One that is open is none (section 13.2.5.6 and on, end of file)."""
        self._ended = True
        yield from self._tags()
        self._at = len(self.held)

    @property
    def passed(self) -> int:
        """The offset up to which everything is settled."""
        return self.offset + self._at

    def _tags(self) -> Iterator[Tag]:
        held = self.held
        while True:
            if self._plain:
                self._at = len(held)
                return
            if self._until and not self._skip(held):
                return
            if self._raw is not None and not self._skip_raw(held):
                return
            at = held.find("<", self._at)
            if at < 0:
                self._at = len(held)
                return
            self._at = at
            character = held[at + 1 : at + 2]
            if character in _LETTERS or (character == "/" and held[at + 2 : at + 3] in _LETTERS):
                match = _TAG.match(held, at)
                if match is None:
                    self._again_at = 2 * (len(held) - at) if len(held) - at > _LONG else 0
                    return
                self._at = match.end()
                yield self._tag(match)
            elif not character or (character == "/" and len(held) == at + 2):
                return
            elif character == "!":
                if len(held) < at + 9 and not held.endswith(">") and not self._ended:
                    return  # which of the three it is cannot be told yet
                self._declaration(held, at)
            elif character in "?/":
                self._at += 2
                self._until = (">",)
            else:
                self._at += 1

    def _tag(self, match: re.Match[str]) -> Tag:
        closing, name = bool(match[1]), match[2].lower()
        foreign = bool(self._foreign or name in _FOREIGN) and self._place(name, closing, match)
        if not closing and not foreign:
            if name in _TEXT:
                self._raw, self._escaped = name, 0
            elif name == "plaintext":
                self._plain = True
        start = self.offset + match.start()
        return Tag(name, closing, start, self.offset + match.end(), match[0], foreign or bool(self._foreign))

    def _place(self, name: str, closing: bool, match: re.Match[str]) -> bool:
        """Keeps count of foreign content; whether this tag belongs to it."""
        stack = self._foreign
        inside = bool(stack) and stack[-1] in _FOREIGN
        if closing:
            if not self._places[name]:
                return inside
            place = self._places[name][-1]
            while len(stack) > place:
                self._leave()
            return True
        if inside and name in _BREAKS_OUT:
            while stack and stack[-1] in _FOREIGN:
                self._leave()
            return True
        if match[0].endswith("/>") and (inside or name in _FOREIGN):
            return True
        if name in _FOREIGN or (inside and name in _INTEGRATION):
            self._places[name].append(len(stack))
            stack.append(name)
            return True
        return inside

    def _leave(self) -> None:
        self._places[self._foreign.pop()].pop()

    def _declaration(self, held: str, at: int) -> None:
        if held.startswith("<!--", at):
            # ``<!-->`` and ``<!--->`` are comments, ended at once.
            short = next((end for end in (">", "->") if held.startswith(end, at + 4)), "")
            self._at = at + 4 + len(short)
            self._until = () if short else ("-->", "--!>")
        elif self._foreign and self._foreign[-1] in _FOREIGN and held.startswith("<![CDATA[", at):
            self._at, self._until = at + 9, ("]]>",)
        else:
            self._at, self._until = at + 2, (">",)

    def _skip(self, held: str) -> bool:
        """To the end of what is open; whether it is there."""
        if self._until[0] == "-->":
            match = _COMMENT_END.search(held, self._at)
            end = match.end() if match else -1
        else:
            place = held.find(self._until[0], self._at)
            end = place + len(self._until[0]) if place >= 0 else -1
        if end < 0:
            self._at = max(self._at, len(held) - 3)  # an end may be under way
            return False
        self._at, self._until = end, ()
        return True

    def _skip_raw(self, held: str) -> bool:
        """To the end tag of a raw text element (section 13.2.5.9 and on); whether it is there."""
        assert self._raw is not None
        if self._raw == "script":
            return self._skip_script(held)
        ending = re.compile(rf"</{self._raw}(?=[{_SPACE}/>])", re.IGNORECASE)
        match = ending.search(held, self._at)
        if match is None:
            self._at = max(self._at, len(held) - len(self._raw) - 3)
            return False
        self._at, self._raw = match.start(), None
        return True

    def _skip_script(self, held: str) -> bool:
        """The script data states: an end tag within ``<!-- <script>`` ends that script only."""
        for match in _SCRIPT_EVENT.finditer(held, self._at):
            event = match[0].lower()
            if event == "<!--":
                if len(held) < match.end() + 2 and not self._ended:
                    self._at = match.start()
                    return False
                if not held.startswith((">", "->"), match.end()):  # else its own dashes end it
                    self._escaped = max(self._escaped, 1)
            elif event == "-->":
                self._escaped = 0
            elif event == "<script":
                self._escaped = 2 if self._escaped else 0
            elif self._escaped == 2:
                self._escaped = 1
            else:
                self._at, self._raw = match.start(), None
                return True
            self._at = max(self._at, match.end())
        self._at = max(self._at, len(held) - 8)
        return False
