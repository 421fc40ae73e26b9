"""Rewrites a page as it comes in, by insertions alone: what the page says stays where it is.

It goes over the tags that the tokenizer finds, gathers the pictures of a piece, asks for their facts once,
and passes the piece on with what it lacks put in.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field

from plumcrate.contract.delivery import Markup, PageFile

from . import selection, styles
from .addresses import Addresses, Place
from .pictures import PicturePlace, Writer, is_large, spot_of
from .references import decoded, escaped
from .texts import alternative_for, lacks_text
from .tokenizer import Attribute, Tag, Tokenizer

#: The facts of files by their paths in the library; those that are not known are not in the answer.
Lookup = Callable[[Sequence[str]], Mapping[str, PageFile]]

#: A ``<picture>`` that has not ended after so many characters is left as it is.
_LONGEST_PICTURE = 65_536
_MODERN = ("image/avif", "image/webp")


@dataclass
class RewriteTally:
    """What was done: pictures of the library seen, those of them that gained something, and those left out by
    rule or because a script of the page loads them. ``files``: what is known of them, by their paths."""

    pictures: int = 0
    changed: int = 0
    left_out: int = 0
    files: dict[str, PageFile] = field(default_factory=dict)


@dataclass
class _Group:
    """A ``<picture>`` of the page, or an ``<img>`` that stands alone."""

    opened: Tag | None = None
    sources: list[PicturePlace] = field(default_factory=list)
    image: PicturePlace | None = None
    modern: bool = False

    @property
    def start(self) -> int:
        assert self.image is not None
        return (self.opened or self.image.tag).start


@dataclass
class _Background:
    tag: Tag
    style: Attribute
    places: dict[str, Place]

    @property
    def start(self) -> int:
        return self.tag.start


class Rewriter:
    """``addresses`` tells what lies in the library; ``text`` how a piece of the page is to be read.

    ``styled``: whether the page may hold style attributes; without them no element is put around a picture,
    since it would take a place of its own, and no placeholder is painted.
    """

    def __init__(
        self,
        rules: Markup,
        addresses: Addresses,
        lookup: Lookup,
        text: Callable[[str], str] = str,
        *,
        styled: bool = True,
    ) -> None:
        self.tally = RewriteTally()
        self._rules, self._addresses, self._lookup = rules, addresses, lookup
        self._text, self._may_style = text, styled
        self._tokenizer = Tokenizer()
        self._held, self._from = "", 0  # what was not passed on, and where it begins
        self._units: list[_Group | _Background] = []  # in the page's order
        self._templates = 0
        self._group: _Group | None = None
        self._given_up = False  # on the picture that is open
        self._based = False
        self._language = ""
        self._seen = 0
        self._first_found = False

    @property
    def held(self) -> str:
        """What was fed and not passed on yet, as the page has it."""
        return self._held

    def feed(self, text: str) -> str:
        """A piece of the page; returns what can be passed on."""
        self._held += text
        for tag in self._tokenizer.feed(text):
            self._take(tag)
        return self._pass_on(self._settled())

    def close(self) -> str:
        """The page has ended; returns the rest."""
        for tag in self._tokenizer.close():
            self._take(tag)
        return self._pass_on(self._from + len(self._held))

    def _settled(self) -> int:
        settled = self._tokenizer.passed
        opened = self._group.opened if self._group is not None else None
        if opened is None:
            return settled
        if settled - opened.start > _LONGEST_PICTURE:
            self._group, self._given_up = None, True
            return settled
        return opened.start

    def _take(self, tag: Tag) -> None:
        if tag.name == "template" and not tag.foreign:
            self._templates = max(0, self._templates + (-1 if tag.closing else 1))
        if tag.foreign or self._templates:
            return
        if tag.closing:
            if tag.name == "picture":
                if self._group is not None and self._group.image is not None:
                    self._units.append(self._group)
                self._group, self._given_up = None, False
            return
        if tag.name == "picture":
            self._group, self._given_up = _Group(opened=tag), False
        elif tag.name == "source" and self._group is not None:
            kind = tag.attributes.get("type")
            self._group.modern |= kind is not None and kind.text.strip().lower() in _MODERN
            self._group.sources.append(self._spot(tag))
        elif tag.name == "img":
            self._image(tag)
        elif tag.name == "html" and not self._language and "lang" in tag.attributes:
            self._language = self._said(tag.attributes["lang"]).strip()
        elif tag.name == "base" and not self._based and "href" in tag.attributes:
            self._based = True
            self._addresses.rebase(self._said(tag.attributes["href"]))
        elif self._rules.backgrounds and "url(" in tag.source.lower():
            self._styled(tag)

    def _image(self, tag: Tag) -> None:
        if self._given_up:
            return
        if self._group is None:
            self._units.append(_Group(image=self._spot(tag)))
        elif self._group.image is None:
            self._group.image = self._spot(tag)

    def _styled(self, tag: Tag) -> None:
        style = tag.attributes.get("style")
        if style is None or not style.quote or self._stays(tag):
            return
        places = {}
        for address in styles.addresses_of(self._said(style)):
            place = self._addresses.place(address)
            if place is not None and not selection.file_left_out(self._rules, place.path):
                places[address] = place
        if places:
            self._units.append(_Background(tag, style, places))

    def _spot(self, tag: Tag) -> PicturePlace:
        return spot_of(tag, self._addresses, self._said)

    def _said(self, attribute: Attribute) -> str:
        return decoded(self._text(attribute.value))

    def _stays(self, tag: Tag) -> bool:
        classes = tag.attributes.get("class")
        return classes is not None and selection.class_left_out(self._rules, self._said(classes))

    def _pass_on(self, settled: int) -> str:
        units = [unit for unit in self._units if unit.start < settled]
        self._units = [unit for unit in self._units if unit.start >= settled]
        paths: dict[str, None] = {}
        for unit in units:
            places = unit.places.values() if isinstance(unit, _Background) else _places(unit)
            paths.update(dict.fromkeys(place.path for place in places))
        files = self._lookup(list(paths)) if paths else {}
        self.tally.files |= files
        writer = Writer(self._rules, self._addresses, files)
        insertions: list[tuple[int, str]] = []
        for unit in units:
            if isinstance(unit, _Background):
                insertions += self._background(unit, writer)
            else:
                insertions += self._picture(unit, writer)
        pieces, at = [], self._from
        for offset, inserted in sorted(insertions, key=lambda insertion: insertion[0]):
            # Whatever the page is written in, it holds ASCII.
            plain = inserted.encode("ascii", "xmlcharrefreplace").decode()
            pieces += [self._held[at - self._from : offset - self._from], plain]
            at = offset
        pieces.append(self._held[at - self._from : settled - self._from])
        self._held, self._from = self._held[settled - self._from :], settled
        return "".join(pieces)

    def _picture(self, group: _Group, writer: Writer) -> list[tuple[int, str]]:
        """The insertions for an ``<img>`` and the ``<picture>`` around it."""
        spot = group.image
        assert spot is not None
        file = writer.file(spot)
        if file is None:
            return []
        place = self._seen
        self._seen += 1
        self.tally.pictures += 1
        tag, rules = spot.tag, self._rules
        if (
            self._stays(tag)
            or (group.opened is not None and self._stays(group.opened))
            or selection.file_left_out(rules, file.path)
            or selection.loaded_by_others(set(tag.attributes))
        ):
            self.tally.left_out += 1
            return []
        first = not self._first_found and is_large(file, tag)
        self._first_found |= first
        late = place >= rules.eager and not first and not selection.loads_at_once(rules, file.path)
        lazy = rules.lazy and late
        insertions = self._sources(group, spot, writer) if rules.elements else []
        wrapped = group.opened is None and bool(insertions)
        attributes = writer.attributes(
            spot, lazy=lazy, first=first and rules.lazy and rules.eager > 0, alone=group.opened is None
        )
        text = alternative_for(file, self._language)
        if text is not None and lacks_text(rules, tag):
            attributes.append(f'alt="{escaped(text)}"')
        insertions += self._painted(tag, writer.placeholder(file), attributes)
        if attributes:
            insertions.append((tag.after_name, " " + " ".join(attributes)))
        if wrapped:
            insertions.append((tag.end, "</picture>"))
        self.tally.changed += bool(insertions)
        return insertions

    def _sources(self, group: _Group, spot: PicturePlace, writer: Writer) -> list[tuple[int, str]]:
        """The ``<source>`` elements for copies, and the ``<picture>`` around an ``<img>`` that has none."""
        has = spot.tag.attributes
        shown = self._said(has["sizes"]) if "sizes" in has else writer.sizes(spot)
        if group.opened is None:
            found = writer.sources(spot, sizes=shown) if self._may_style else []
            # The element takes no place of its own. Rules of the site such as ".strip > img" no longer fit.
            opening = '<picture style="display:contents">'
            return [(spot.tag.start, opening + "".join(found))] if found else []
        if group.modern:
            return []
        insertions = []
        for source in group.sources:
            if "type" in source.tag.attributes and not source.candidates:
                continue
            also = "".join(
                f' {name}="{escaped(self._said(attribute))}"'
                for name, attribute in source.tag.attributes.items()
                if name == "media"
            )
            sizes = source.tag.attributes.get("sizes")
            found = writer.sources(source, sizes=self._said(sizes) if sizes else "", also=also)
            if found:
                insertions.append((source.tag.start, "".join(found)))
        found = writer.sources(spot, sizes=shown)
        if found:
            insertions.append((spot.tag.start, "".join(found)))
        return insertions

    def _painted(self, tag: Tag, declaration: str | None, attributes: list[str]) -> list[tuple[int, str]]:
        """A placeholder: into the style there is, or as one of its own."""
        if declaration is None or not self._may_style:
            return []
        style = tag.attributes.get("style")
        if style is None:
            attributes.append(f'style="{escaped(declaration)}"')
            return []
        if not style.quote or "background" in style.text.lower():
            return []
        return [_behind(style, declaration)]

    def _background(self, unit: _Background, writer: Writer) -> list[tuple[int, str]]:
        def sources_of(address: str) -> list[tuple[str, str]]:
            place = unit.places.get(address)
            file = writer.files.get(place.path) if place is not None else None
            if place is None or file is None or not file.copies:
                return []
            best = sorted(file.copies, key=lambda copy: copy.bytes)
            addresses = self._addresses
            found = [
                (place.beside(copy.path, addresses.home, addresses.base), copy.media_type) for copy in best
            ]
            return [*found, (address, file.media_type)]

        declaration = styles.with_image_set(self._said(unit.style), sources_of)
        return [] if declaration is None else [_behind(unit.style, declaration)]


def _behind(style: Attribute, declaration: str) -> tuple[int, str]:
    """A declaration at the end of a style that stands in quotes."""
    text = declaration.replace("&", "&amp;")
    text = text.replace('"', "&quot;") if style.quote == '"' else text.replace("'", "&#39;")
    before = style.value.rstrip()
    return style.end, ("" if not before or before.endswith(";") else ";") + text


def _places(group: _Group) -> list[Place]:
    spots = [*group.sources, *([group.image] if group.image else [])]
    return [place for spot in spots for place in spot.places]
