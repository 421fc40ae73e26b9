"""Which files are derived sizes of which picture, by file name, checked against the pixels.

A pattern is a file name with fields, such as ``{stem}-{width}x{height}{ext}``; it may begin with
folders below the original's own. Fields: ``stem`` and ``ext`` name the original, ``width`` and
``height`` are checked against the rendition's pixels, ``spec`` is a word and a size, such as
``width-800``.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

#: Conventions in wide use.
USUAL_PATTERNS = (
    "{stem}-{width}x{height}{ext}",
    "{stem}_{width}x{height}{ext}",
    "{stem}-{width}w{ext}",
    "{stem}.{spec}{ext}",
    "{width}x{height}/{stem}{ext}",
    "thumbs/{stem}{ext}",
)

_FIELDS = {
    "stem": r"(?P<stem>[^/]+)",
    "ext": r"(?P<ext>\.[A-Za-z0-9]+)",
    "width": r"(?P<width>[1-9][0-9]{0,4})",
    "height": r"(?P<height>[1-9][0-9]{0,4})",
    "spec": r"(?P<spec>[a-z]+-[0-9]+(?:x[0-9]+)?)",
}


class PatternError(ValueError):
    """A name pattern that cannot be used; the message says why."""


@dataclass(frozen=True, slots=True)
class PixelSize:
    """Width and height in pixels; 0 where unknown."""

    width: int
    height: int


def compile_pattern(pattern: str) -> re.Pattern[str]:
    """A regular expression for the end of a path. Raises :class:`PatternError`."""
    parts = re.split(r"\{([a-z]+)\}", pattern)
    fields = parts[1::2]
    unknown = [field for field in fields if field not in _FIELDS]
    if unknown:
        raise PatternError(f"{pattern}: there is no field {{{unknown[0]}}}")
    if len(set(fields)) != len(fields):
        raise PatternError(f"{pattern}: a field stands twice")
    if "stem" not in fields or "ext" not in fields:
        raise PatternError(f"{pattern}: the fields {{stem}} and {{ext}} are needed")
    if pattern == "{stem}{ext}":
        raise PatternError(f"{pattern}: this would match every file")
    if "/" in pattern.rpartition("{stem}")[2]:
        raise PatternError(f"{pattern}: {{stem}} must be in the last part")
    expression = "".join(_FIELDS[part] if index % 2 else re.escape(part) for index, part in enumerate(parts))
    return re.compile(rf"(?P<folder>(?:.*/)?){expression}\Z")


def group(files: Mapping[str, PixelSize], patterns: Iterable[str]) -> dict[str, str]:
    """The original's path for every path that is a rendition of another file of the mapping.

    A rendition is never larger than its original, and has the size its name states. A rendition
    of a rendition belongs to the first original.
    """
    compiled = [compile_pattern(pattern) for pattern in patterns]
    homes: dict[str, str] = {}
    for path, size in files.items():
        for expression in compiled:
            match = expression.match(path)
            if match is None:
                continue
            original = f"{match['folder']}{match['stem']}{match['ext']}"
            if original in files and original != path and _fits(match, size, files[original]):
                homes[path] = original
                break
    return {path: _first(homes, path) for path in homes}


def _first(homes: Mapping[str, str], path: str) -> str:
    seen = {path}
    while (path := homes.get(path, path)) not in seen:
        seen.add(path)
    return path


def _fits(match: re.Match[str], size: PixelSize, original: PixelSize) -> bool:
    if not size.width or not original.width:
        return True  # one of them cannot be read: the name alone decides
    stated = match.groupdict()
    turned = PixelSize(size.height, size.width)
    for view in (size, turned):
        width_fits = stated.get("width") is None or int(stated["width"]) == view.width
        height_fits = stated.get("height") is None or int(stated["height"]) == view.height
        if width_fits and height_fits:
            break
    else:
        return False
    return size.width * size.height <= original.width * original.height
