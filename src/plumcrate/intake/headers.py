"""What a file's header says, as values of its record. Files are never read whole for it."""

from __future__ import annotations

from typing import Any

from plumcrate.contract.pictures import FileState
from plumcrate.imaging import ImagingError
from plumcrate.imaging.errors import MoreDataNeeded
from plumcrate.imaging.formats import FORMATS
from plumcrate.imaging.identification import Facts, identify
from plumcrate.storage.errors import NotThere, StorageError
from plumcrate.storage.store import ListedFile, Store

ENDINGS = frozenset(ending for format in FORMATS.values() for ending in format.endings)

#: So much of a file's beginning is read, one window after the other, until its header ends.
_WINDOWS = (1 << 16, 1 << 20, 1 << 24)
HEADER = _WINDOWS[-1]


def is_picture(path: str) -> bool:
    """Whether a path is that of a picture that a library holds, by its name."""
    name = path.rpartition("/")[2]
    hidden = any(part.startswith(".") for part in path.split("/"))
    return not hidden and "." in name and "." + name.rpartition(".")[2].lower() in ENDINGS


def header_of(store: Store, path: str) -> Facts:
    """What the header says. Raises ImagingError or StorageError."""
    for window in _WINDOWS:
        data = store.read(path, window)
        try:
            facts = identify(data)
        except MoreDataNeeded:
            if len(data) < window:
                raise MoreDataNeeded("the file ends within its header") from None
            continue
        # Of a TIFF, its directory may lie behind its pixels.
        if facts.format != "tiff" or facts.width or len(data) < window or window == HEADER:
            return facts
    raise MoreDataNeeded(f"its header goes on beyond the first {HEADER >> 20} MB")


def no_treatment() -> dict[str, Any]:
    """Values of a file's row to which nothing has been done yet."""
    names = (
        "reason",
        "sha256",
        "before_sha256",
        "score",
        "level",
        "recipe",
        "how",
        "treated_at",
        "shown_width",
        "shown_height",
    )
    # What somebody else put there is no size of ours.
    size = {"size_name": None, "slot": "", "unwanted": False, "removed_unused": False}
    return dict.fromkeys(names) | {"state": FileState.NEW, "held": False} | size


def identified(store: Store, entry: ListedFile) -> dict[str, Any]:
    """Values of a file's row as its header tells them. Raises NotThere."""
    try:
        return values_of(entry, header_of(store, entry.path))
    except NotThere:
        raise
    except (ImagingError, StorageError) as error:
        return values_of(entry, None) | {"state": FileState.UNREADABLE, "reason": str(error)}


def values_of(entry: ListedFile, facts: Facts | None) -> dict[str, Any]:
    """Values of a file's row by what its header says; None: nothing."""
    width, height = facts.shown_size if facts else (0, 0)
    return {
        "path": entry.path,
        "folder": entry.path.rpartition("/")[0],
        "size_before": entry.size,
        "size_now": entry.size,
        "mtime_ns": entry.mtime_ns,
        "mtime_ns_before": entry.mtime_ns,
        "format": facts.format if facts else None,
        "width": width,
        "height": height,
        "transparent": facts.alpha if facts else False,
        "animated": facts.animated if facts else False,
    }
