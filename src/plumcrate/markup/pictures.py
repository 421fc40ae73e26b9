"""What is written for one ``<img>``: attributes to add, and ``<source>`` elements before it.

HTML standard, section 4.8.1 (``picture``), 4.8.2 (``source``), 4.8.3 (``img``).
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from plumcrate.contract.delivery import Markup, PageCopy, PageFile, Placeholder

from .addresses import Addresses, Place
from .references import escaped
from .srcset import Candidate, candidates_of, written
from .tokenizer import Attribute, Tag

#: Widths beyond twice what is shown are of no use to any screen.
_DENSEST = 2
#: A picture so small in its area is not what a page is waiting for.
_LARGE = 256 * 256
_COPIES = ("image/avif", "image/webp")

#: Which visitors ask for less data (CSS, Media Queries Level 5, section 12.5).
SAVING_DATA = "(prefers-reduced-data: reduce)"

Texts = Callable[[Attribute], str]
#: A file's copy of one kind: its path and bytes.
CopyOf = Callable[[PageFile], tuple[str, int] | None]


@dataclass(frozen=True, slots=True)
class PicturePlace:
    """One ``<img>`` or ``<source>`` with where its addresses lie in the library: of ``src``, and of each
    candidate of ``srcset``, None for those that do not."""

    tag: Tag
    src: Place | None
    candidates: tuple[tuple[Candidate, Place | None], ...]

    @property
    def places(self) -> list[Place]:
        found = [place for _, place in self.candidates if place is not None]
        return found if self.src is None else [self.src, *found]


def spot_of(tag: Tag, addresses: Addresses, text: Texts) -> PicturePlace:
    src, srcset = tag.attributes.get("src"), tag.attributes.get("srcset")
    place = addresses.place(text(src)) if src else None
    found = candidates_of(text(srcset)) if srcset else []
    return PicturePlace(
        tag, place, tuple((candidate, addresses.place(candidate.address)) for candidate in found)
    )


@dataclass(frozen=True, slots=True)
class Writer:
    """Writes by the rules, with the facts of files by path."""

    rules: Markup
    addresses: Addresses
    files: Mapping[str, PageFile]

    def sources(self, spot: PicturePlace, *, sizes: str, also: str = "") -> list[str]:
        """A ``<source>`` for each kind of copy, the lightest kind first. ``sizes``: how wide it is shown;
        ``also``: attributes that each has, with a space before them."""
        # Those that browsers take whose visitor asked for less data come first; a second medium would not do.
        leaner = any(file.save_data for file in self._files(spot)) and "media" not in also
        forms: list[tuple[Callable[[str], CopyOf], str]] = [(_usual, "")]
        if leaner:
            forms.insert(0, (_leaner, f' media="{SAVING_DATA}"'))
        out = []
        for form, media in forms:
            listed = self._candidates if spot.candidates else self._own_sizes
            for kind in _COPIES:
                found = listed(spot, form(kind))
                if found:
                    widths = sizes and any(candidate.width for candidate in found)
                    wide = f' sizes="{escaped(sizes)}"' if widths else ""
                    out.append(
                        f'<source type="{kind}"{media} srcset="{escaped(written(found))}"{wide}{also}>'
                    )
        return out

    def _files(self, spot: PicturePlace) -> list[PageFile]:
        return [self.files[place.path] for place in spot.places if place.path in self.files]

    def attributes(self, spot: PicturePlace, *, lazy: bool, first: bool, alone: bool) -> list[str]:
        """What an ``<img>`` lacks, ready to be written. ``lazy``: it is loaded late; ``first``: the page
        waits for it; ``alone``: it stands in no ``<picture>`` of the page's own."""
        has, rules, file = spot.tag.attributes, self.rules, self.file(spot)
        says_something = bool({"width", "height"} & set(has)) or _styled(spot.tag)
        given = file is not None and rules.dimensions and bool(file.width) and not says_something
        kept = given or (file is not None and keeps_its_place(file, spot.tag))
        out = []
        if alone and "srcset" not in has and "sizes" not in has and file is not None:
            out += self._offered(file, spot, sized=rules.sizes and kept)
        if file is not None and given:
            out.append(f'width="{file.width}" height="{file.height}"')
        if lazy and kept and "loading" not in has:
            out.append('loading="lazy"')
        if lazy and kept and "decoding" not in has:
            out.append('decoding="async"')
        if first and "fetchpriority" not in has:
            out.append('fetchpriority="high"')
        return out

    def _offered(self, file: PageFile, spot: PicturePlace, *, sized: bool) -> list[str]:
        """``srcset`` and ``sizes`` for an ``<img>`` with ``src`` alone: its sizes, or itself where copies are
        fetched at an address of their own, which chooses the format."""
        if spot.src is None:
            return []
        useful = self._useful(file, spot.tag) if sized else []
        if len(useful) > 1:
            found = [Candidate(self._address(size.path, spot.src), f"{size.width}w") for size in useful]
            return [f'srcset="{escaped(written(found))}"', f'sizes="{self.sizes(spot)}"']
        if self.rules.elements or self.addresses.base is None or not file.copies:
            return []
        return [f'srcset="{escaped(self._address(file.path, spot.src))}"']

    def sizes(self, spot: PicturePlace) -> str:
        """How wide a picture with ``src`` alone is shown. Never ``auto``: browsers then lay the picture out
        without its own dimensions, which moves it where styles leave one of them open."""
        file = self.file(spot)
        width = shown_width(file, spot.tag) if file is not None else 0
        return f"(max-width: {width}px) 100vw, {width}px"

    def placeholder(self, file: PageFile) -> str | None:
        """A declaration that paints where the picture will be; transparent pictures would show it for
        good."""
        if file.transparent:
            return None
        if self.rules.placeholder == Placeholder.PREVIEW and file.preview:
            return f"background:url({file.preview}) center/cover"
        if self.rules.placeholder != Placeholder.NONE and file.colour:
            return f"background:{file.colour}"
        return None

    def file(self, spot: PicturePlace) -> PageFile | None:
        """The file of ``src``, else the widest of ``srcset``."""
        if spot.src is not None and spot.src.path in self.files:
            return self.files[spot.src.path]
        found = [self.files[place.path] for place in spot.places if place.path in self.files]
        return max(found, key=lambda file: file.width, default=None)

    def _file(self, place: Place | None) -> PageFile | None:
        return self.files.get(place.path) if place is not None else None

    def _address(self, path: str, place: Place) -> str:
        return place.beside(path, self.addresses.home, self.addresses.base)

    def _useful(self, file: PageFile, tag: Tag) -> list[PageFile]:
        """The sizes that screens can use where this file is shown, the narrowest first, itself among them."""
        most = _DENSEST * shown_width(file, tag)
        everything = {size.path: size for size in (*file.sizes, file)}.values()
        by_width = {size.width: size for size in everything if size.width}
        wide = sorted(by_width)
        enough = next((width for width in wide if width >= most), None)
        return [by_width[width] for width in wide if enough is None or width <= enough]

    def _own_sizes(self, spot: PicturePlace, copy_of: CopyOf) -> list[Candidate]:
        """For an ``<img>`` with ``src`` alone: copies of its sizes, or of itself."""
        file = self._file(spot.src)
        if file is None or spot.src is None:
            return []
        sizes = self._useful(file, spot.tag) if self.rules.sizes else [file]
        found = _light([(size.width, size.bytes, copy_of(size)) for size in sizes], keep=len(sizes) - 1)
        if len(sizes) < 2:
            return [Candidate(self._address(path, spot.src), "") for _, path in found]
        return [Candidate(self._address(path, spot.src), f"{width}w") for width, path in found]

    def _candidates(self, spot: PicturePlace, copy_of: CopyOf) -> list[Candidate]:
        """For an ``<img>`` or ``<source>`` with ``srcset``: copies of all its candidates."""
        entries: list[tuple[int, int, tuple[str, int] | None]] = []
        descriptors: dict[str, tuple[Candidate, Place]] = {}
        for candidate, place in spot.candidates:
            file = self._file(place)
            if file is None or place is None:
                return []
            copy = copy_of(file)
            entries.append((candidate.width or 0, file.bytes, copy))
            if copy is not None:
                descriptors[copy[0]] = (candidate, place)
        widths = all(candidate.width for candidate, _ in spot.candidates)
        if not widths and any(copy is None for *_, copy in entries):
            return []
        found = _light(sorted(entries, key=lambda entry: entry[0]), keep=len(entries) - 1)
        return [
            Candidate(self._address(path, descriptors[path][1]), descriptors[path][0].descriptor)
            for _, path in found
        ]


def _copy(copies: Sequence[PageCopy], kind: str) -> tuple[str, int] | None:
    return next(((copy.path, copy.bytes) for copy in copies if copy.media_type == kind), None)


def _usual(kind: str) -> CopyOf:
    return lambda file: _copy(file.copies, kind)


def _leaner(kind: str) -> CopyOf:
    """The form for who asks for less data; the usual copy of a file that has none."""
    return lambda file: _copy(file.save_data, kind) or _copy(file.copies, kind)


def _light(entries: list[tuple[int, int, tuple[str, int] | None]], *, keep: int) -> list[tuple[int, str]]:
    """Widths with copies' paths, of files from narrow to wide. A size that has no copy is left out where the
    next copy is no heavier than its file; else there is no list, since a browser that takes the list would
    fetch more than before."""
    found: list[tuple[int, str]] = []
    following: int | None = None
    for width, size, copy in reversed(entries):
        if copy is None:
            if following is None or following > size:
                return []
            continue
        following = copy[1]
        found.append((width, copy[0]))
    return found[::-1]


def shown_width(file: PageFile, tag: Tag) -> int:
    """How wide a picture is shown at most, in CSS pixels, as far as its tag tells."""
    width = _pixels(tag.attributes.get("width"))
    return min(width, file.width) if width else file.width


def _pixels(stated: Attribute | None) -> int:
    """What an attribute states in pixels; 0 for anything else."""
    digits = stated.text.strip().removesuffix("px") if stated else ""
    return int(digits) if digits.isascii() and digits.isdigit() and len(digits) < 6 else 0


def keeps_its_place(file: PageFile, tag: Tag) -> bool:
    """Whether a tag states width and height in the file's own shape: then no other file of this shape, and no
    later loading, moves anything on the page."""
    width, height = (_pixels(tag.attributes.get(name)) for name in ("width", "height"))
    if not width or not height or not file.width or width > file.width:
        return False
    return abs(width * file.height / file.width - height) < 1


def is_large(file: PageFile, tag: Tag) -> bool:
    width = shown_width(file, tag)
    return width * (file.height * width // max(file.width, 1)) >= _LARGE


def _styled(tag: Tag) -> bool:
    """Whether a style attribute says how large the picture is."""
    style = tag.attributes.get("style")
    names = [part.partition(":")[0].strip().lower() for part in style.text.split(";")] if style else []
    return bool({"width", "height"} & set(names))
