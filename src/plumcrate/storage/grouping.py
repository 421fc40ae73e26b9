"""Which files are derived sizes of which picture, by file name, checked against the pixels.

A pattern is the path of a rendition with fields, such as ``{stem}-{width}x{height}{ext}``. It may begin with
folders below the original's own. Where originals lie in a folder beside, the pattern says so with an arrow::

    original_images/{stem}{ext} -> images/{cut}.{filters}{any}
    {folder}{stem}{ext} -> styles/{style}/public/{folder}{stem}{any}

Fields: ``stem`` and ``ext`` name the original; ``cut`` is the beginning of its stem, where long names are
cut; ``any`` is any ending, ``folder`` any folders, the same on both sides; ``width`` and ``height`` are
checked against the rendition's pixels; ``spec`` is a word and a size, such as ``width-800``; ``filters`` is a
chain of such words with a crop's key, such as ``2e16d0ba.fill-300x200.format-webp``; ``style`` is a folder's
name.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import lru_cache

#: Conventions in wide use, by their layout.
USUAL_PATTERNS = (
    "{stem}-{width}x{height}{ext}",
    "{stem}_{width}x{height}{ext}",
    "{stem}-{width}w{ext}",
    "{stem}.{spec}{ext}",
    "{width}x{height}/{stem}{ext}",
    "thumbs/{stem}{ext}",
    "thumbnail_{stem}{ext}",
    "small_{stem}{ext}",
    "medium_{stem}{ext}",
    "large_{stem}{ext}",
    "original_images/{stem}{ext} -> images/{cut}.{filters}{any}",
    "{folder}{stem}{ext} -> styles/{style}/public/{folder}{stem}{any}",
    "{folder}{stem}{ext} -> cache/{folder}{stem}-{width}x{height}{any}",
)
#: A cut name must have kept so much of its stem.
_LEAST_CUT = 8
_ENDING = r"\.[A-Za-z0-9]{1,5}"
_FIELDS = {
    "stem": r"(?P<stem>[^/]+)",
    "cut": r"(?P<cut>[^/]+?)",
    "ext": r"(?P<ext>\.[A-Za-z0-9]+)",
    "any": rf"(?P<any>(?:{_ENDING}){{1,2}})",
    "width": r"(?P<width>[1-9][0-9]{0,4})",
    "height": r"(?P<height>[1-9][0-9]{0,4})",
    "spec": r"(?P<spec>[a-z]+-[0-9]+(?:x[0-9]+)?)",
    "filters": r"(?P<filters>(?:[0-9a-f]{8}\.)?[a-z]+(?:-[A-Za-z0-9]+)*(?:\.[a-z]+(?:-[A-Za-z0-9]+)*)*)",
    "style": r"[^/]+",
}
_FOLDER = r"(?P<folder>(?:[^/]+/)*)"


class PatternError(ValueError):
    """A name pattern that cannot be used; the message says why."""


@dataclass(frozen=True, slots=True)
class PixelSize:
    """Width and height in pixels; 0 where unknown."""

    width: int
    height: int


@dataclass(frozen=True, slots=True)
class Convention:
    """A pattern, ready to be used. ``home``: where originals lie below what is common to both; None beside
    the rendition, or above it."""

    text: str
    folder: re.Pattern[str]
    name: re.Pattern[str]
    home: str | None
    inner: bool
    tail: re.Pattern[str] | None = None  # what follows the stem, where that may be cut at several points

    def readings(self, name: str) -> Iterable[dict[str, str | None]]:
        """The fields of a name, in every way in which it can be read, long stems first."""
        if self.tail is None:
            match = self.name.fullmatch(name)
            return [match.groupdict()] if match is not None else []
        points = [at for at, each in enumerate(name) if each == "." and at]
        matches = ((at, self.tail.fullmatch(name, at)) for at in reversed(points))
        return [match.groupdict() | {"cut": name[:at]} for at, match in matches if match is not None]

    def home_of(self, folder: str) -> str | None:
        """The folder in which originals of renditions in this folder lie; None where none can lie in it."""
        match = self.folder.fullmatch(folder + "/" if folder else "")
        if match is None:
            return None
        inner = match["folder"] if self.inner else ""
        return f"{match['base']}{self.home or ''}{inner}".removesuffix("/")


@dataclass(slots=True)
class _Originals:
    """Files by folder and stem."""

    stems: dict[str, dict[str, list[str]]] = field(
        default_factory=lambda: defaultdict(lambda: defaultdict(list))
    )

    def add(self, path: str) -> None:
        folder, _, name = path.rpartition("/")
        self.stems[folder][name.rpartition(".")[0]].append(path)

    def called(self, folder: str, stem: str) -> list[str]:
        return self.stems.get(folder, {}).get(stem, [])

    def beginning_with(self, folder: str, cut: str) -> list[str]:
        """The paths of the only stem of the folder that begins so; nothing where several do."""
        if len(cut) < _LEAST_CUT:
            return []
        found = [stem for stem in self.stems.get(folder, {}) if stem.startswith(cut)]
        return self.stems[folder][found[0]] if len(found) == 1 else []


@lru_cache(maxsize=1024)
def compile_pattern(pattern: str) -> Convention:
    """Raises :class:`PatternError`."""
    home: str | None = None
    rendition = pattern
    if "->" in pattern:
        original, _, rendition = (part.strip() for part in pattern.partition("->"))
        home = original.removesuffix("{stem}{ext}")
        if home == original or "{" in home.removesuffix("{folder}"):
            raise PatternError(f"{pattern}: before the arrow stands a folder, and then {{stem}}{{ext}}")
    parts = re.split(r"\{([a-z]+)\}", rendition)
    fields = parts[1::2]
    unknown = [each for each in fields if each not in _FIELDS and not (each == "folder" and home is not None)]
    if unknown:
        raise PatternError(f"{pattern}: there is no field {{{unknown[0]}}}")
    if len(set(fields)) != len(fields):
        raise PatternError(f"{pattern}: a field stands twice")
    stem = next((each for each in fields if each in ("stem", "cut")), None)
    if stem is None or not {"ext", "any"} & set(fields):
        raise PatternError(f"{pattern}: the fields {{stem}} and {{ext}} are needed")
    if stem == "cut" and home is None:
        raise PatternError(f"{pattern}: {{cut}} needs an arrow, which says where originals lie")
    if home is None and rendition == "{stem}{ext}":
        raise PatternError(f"{pattern}: this would match every file")
    if "/" in rendition.rpartition(f"{{{stem}}}")[2]:
        raise PatternError(f"{pattern}: {{{stem}}} must be in the last part")
    inner = "folder" in fields
    if home is not None and inner != home.endswith("{folder}"):
        raise PatternError(f"{pattern}: {{folder}} stands on both sides of the arrow, or on none")
    above, slash, name = rendition.replace("{folder}", "\0").rpartition("/")
    if "\0" in name:
        above, name = above + slash + "\0", name.replace("\0", "")
        slash = ""
    return Convention(
        pattern,
        re.compile(r"(?P<base>(?:[^/]+/)*)" + _expression(above + slash)),
        re.compile(_expression(name)),
        None if home is None else home.removesuffix("{folder}"),
        inner,
        re.compile(_expression(name.removeprefix("{cut}"))) if name.startswith("{cut}.") else None,
    )


def _expression(text: str) -> str:
    parts = re.split(r"\{([a-z]+)\}", text)
    found = (_FIELDS[part] if index % 2 else re.escape(part) for index, part in enumerate(parts))
    return "".join(found).replace("\0", _FOLDER).replace("\\\x00", _FOLDER)


def conventions_of(patterns: Iterable[str]) -> list[Convention]:
    """Those of a library. Raises :class:`PatternError`."""
    return [compile_pattern(pattern) for pattern in patterns]


def homes_of(folder: str, conventions: Sequence[Convention]) -> set[str]:
    """The folders in which originals of a folder's renditions may lie, itself among them."""
    found = {convention.home_of(folder) for convention in conventions}
    return {folder} | {home for home in found if home is not None}


def group(
    files: Mapping[str, PixelSize], patterns: Iterable[str], told: Mapping[str, str] | None = None
) -> dict[str, str]:
    """The original's path for every path that is a rendition of another file of the mapping.

    ``told``: what the site says, which goes before names. A rendition is never larger than its original, and
    has the size its name states. A rendition of a rendition belongs to the first original. Circles say
    nothing.
    """
    conventions = conventions_of(patterns)
    originals = _Originals()
    for path in files:
        originals.add(path)
    homes = {path: original for path, original in (told or {}).items() if {path, original} <= files.keys()}
    for path, size in files.items():
        if path in homes:
            continue
        folder, _, name = path.rpartition("/")
        for convention in conventions:
            home = convention.home_of(folder)
            if home is None:
                continue
            original = next(
                (
                    one
                    for stated in convention.readings(name)
                    for one in _called(originals, convention, home, stated)
                    if one != path and _fits(stated, folder, convention, size, files[one])
                ),
                None,
            )
            if original is not None:
                homes[path] = original
                break
    found = {path: _first(homes, path) for path in homes}
    return {path: original for path, original in found.items() if original is not None}


def _called(
    originals: _Originals, convention: Convention, home: str, stated: Mapping[str, str | None]
) -> Iterable[str]:
    """The files that a rendition's name may mean."""
    stem, ext = stated.get("stem") or stated.get("cut") or "", stated.get("ext")
    if ext is not None:
        path = f"{home}/{stem}{ext}" if home else f"{stem}{ext}"
        return [path] if path in originals.called(home, stem) else []
    if convention.home is None:
        return originals.called(home, stem)
    found = list(originals.called(home, stem))
    # A converted rendition may keep its original's whole name: kite.jpg, and kite.jpg.webp.
    found += [one for one in originals.called(home, stem.rpartition(".")[0]) if one.endswith(f"{stem}")]
    if not found and "cut" in stated:
        found = originals.beginning_with(home, stem)
    if len(found) < 2:
        return found
    # Two originals that differ in their endings alone: the rendition's own tells, where nothing was
    # converted.
    ending = (stated.get("any") or "").lower()
    alike = [one for one in found if one.lower().endswith(ending)]
    converted = "format-" in (stated.get("filters") or "")
    return alike if len(alike) == 1 and not converted else []


def _first(homes: Mapping[str, str], path: str) -> str | None:
    """The file at the beginning of the chain; None where there is no beginning."""
    seen = {path}
    while path in homes:
        path = homes[path]
        if path in seen:
            return None
        seen.add(path)
    return path


def _fits(
    stated: Mapping[str, str | None],
    folder: str,
    convention: Convention,
    size: PixelSize,
    original: PixelSize,
) -> bool:
    if not size.width or not original.width:
        return True  # one of them cannot be read: the name alone decides
    above = convention.folder.fullmatch(folder + "/" if folder else "")
    if above is not None:
        sized = {name: value for name, value in above.groupdict().items() if name in ("width", "height")}
        stated = {**stated, **sized}
    turned = PixelSize(size.height, size.width)
    for view in (size, turned):
        width_fits = int(stated.get("width") or view.width) == view.width
        height_fits = int(stated.get("height") or view.height) == view.height
        if width_fits and height_fits:
            break
    else:
        return False
    return size.width * size.height <= original.width * original.height
