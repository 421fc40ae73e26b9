"""Names of the files that are made for sizes: a pattern with fields, beside the picture or in a folder."""

from __future__ import annotations

import re

from plumcrate.storage.names import fault_of

_FIELDS = ("stem", "ext", "name", "width", "height", "times")
_LONGEST_NAME = 255


class UnfitPattern(ValueError):
    """A pattern that cannot be used; the message says why."""


def check_pattern(pattern: str, *, several: bool) -> None:
    """Raises :class:`UnfitPattern`. ``several``: the size has more than one file of a picture."""
    fields = re.findall(r"\{([^{}]*)\}", pattern)
    unknown = [field for field in fields if field not in _FIELDS]
    if unknown:
        raise UnfitPattern(f"{pattern}: there is no field {{{unknown[0]}}}; there are {', '.join(_FIELDS)}")
    if re.search(r"[{}]", re.sub(r"\{[a-z]+\}", "", pattern)):
        raise UnfitPattern(f"{pattern}: a brace stands alone")
    if not pattern.endswith("{ext}") or pattern.count("{ext}") != 1:
        raise UnfitPattern(f"{pattern}: it must end in {{ext}}, the kind of file")
    if "{stem}" not in pattern.rpartition("/")[2]:
        raise UnfitPattern(f"{pattern}: the last part needs {{stem}}, the picture's own name")
    if set(fields) <= {"stem", "ext"} and not pattern.rpartition("/")[2].replace("{stem}{ext}", ""):
        raise UnfitPattern(f"{pattern}: this is the name of the picture itself")
    if several and not {"width", "times"} & set(fields):
        raise UnfitPattern(
            f"{pattern}: the size has several files of a picture: {{width}} or {{times}} is needed"
        )
    sample = made_name("2026/sample.jpg", pattern, "sample", (640, 480), "2x", ".jpg")
    fault = fault_of(sample)
    if (
        fault is not None
        or pattern.startswith("/")
        or any(part.startswith(".") for part in sample.split("/"))
    ):
        raise UnfitPattern(f"{pattern}: {fault or 'a name must be an open one inside the library'}")


def made_name(path: str, pattern: str, name: str, size: tuple[int, int], slot: str, ending: str) -> str:
    """The path of a file that is made of the picture at a path."""
    folder, _, own = path.rpartition("/")
    stem = own.rpartition(".")[0] or own
    times = "" if slot == "1x" or not slot.endswith("x") else f"@{slot}"
    values = {
        "stem": stem,
        "ext": ending,
        "name": name,
        "width": str(size[0]),
        "height": str(size[1]),
        "times": times,
    }
    made = re.sub(r"\{([a-z]+)\}", lambda match: values[match[1]], pattern)
    return f"{folder}/{made}" if folder else made
