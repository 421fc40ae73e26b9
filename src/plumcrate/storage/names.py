"""The one place that decides which paths and names from outside are fit to be used.

A path is relative to a library's folder, with forward slashes. What passes here holds no NUL, control
character or lone surrogate, stays inside, fits the file system and our records, and is no name of ours.
"""

from __future__ import annotations

import unicodedata

from .errors import StorageError

#: Names of files that are being staged begin so; surveys pass over them and recovery sweeps them.
STAGED_PREFIX = ".plumcrate-"
#: The file in a library's folder, and in the state folder, by which it is known.
IDENTITY_NAME = ".plumcrate.id"

#: Bytes in UTF-8: what file systems allow in a name, and what an index of PostgreSQL holds.
MOST_NAME = 255
MOST_PATH = 2_000


def fault_of(path: str) -> str | None:
    """Why a path cannot be used, in plain words; None when it can."""
    try:
        length = len(path.encode("utf-8"))
    except UnicodeEncodeError:
        return "is not valid UTF-8"
    if any(unicodedata.category(character) == "Cc" for character in path):
        return "holds a control character"
    if length > MOST_PATH:
        return f"is longer than {MOST_PATH:,} bytes"
    for part in path.split("/"):
        if part in ("", ".", ".."):
            return "is not a path inside the library"
        if len(part.encode("utf-8")) > MOST_NAME:
            return f"has a name longer than {MOST_NAME} bytes"
    return None


def checked(path: str) -> str:
    """The path itself when it is fit. Raises StorageError ``bad-name`` or ``name-too-long``."""
    fault = fault_of(path)
    if fault is not None:
        code = "name-too-long" if "longer than" in fault else "bad-name"
        raise StorageError(code, f"{shown(path)} {fault}")
    return path


def fault_of_new(path: str) -> str | None:
    """Why a file may not be made under this path on somebody's word; None when it may.

    Beyond what any path must be, it is in Unicode's composed form and no part of it is hidden or
    begins or ends with a space.
    """
    fault = fault_of(path)
    if fault is not None:
        return fault
    if unicodedata.normalize("NFC", path) != path:
        return "is not in Unicode's composed form (NFC)"
    for part in path.split("/"):
        if part.startswith("."):
            return "has a hidden part"
        if part != part.strip() or part.endswith("."):
            return "has a part that begins or ends with a space or ends with a dot"
        if "\\" in part:
            return "holds a backslash"
    return None


def is_ours(name: str) -> bool:
    """Whether a bare name is one that we alone give."""
    return name.startswith(STAGED_PREFIX) or name == IDENTITY_NAME


def shown(path: str, most: int = 120) -> str:
    """A path that may hold anything, fit for a message: bounded, nothing that a terminal obeys."""
    plain = path.encode("utf-8", "backslashreplace").decode("utf-8")
    plain = "".join(
        character if character.isprintable() else f"\\x{ord(character):02x}" for character in plain
    )
    return plain if len(plain) <= most else f"{plain[: most - 1]}…"
