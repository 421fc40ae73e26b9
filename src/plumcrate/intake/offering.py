"""Folders of this machine that may be connected: only those that the settings offer, and what is below them.

A folder is looked at for a moment and never changed. Hidden folders and links are passed over.
"""

from __future__ import annotations

import os
import re
import time
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

from sqlalchemy.orm import Session

from plumcrate.contract.folders import FolderView, OfferedFolder
from plumcrate.imaging.formats import FORMATS
from plumcrate.refusal import Refusal

from .connecting import checked_root

_ENDINGS = frozenset(ending for format in FORMATS.values() for ending in format.endings)
#: A look ends after so many entries or seconds, and shows so many folders and pictures.
_MOST_ENTRIES, _SECONDS, _FOLDERS, _EXAMPLES = 50_000, 1.5, 500, 6
_BY_SIZE = re.compile(r"-\d{2,5}x\d{2,5}\.[a-z]+$", re.IGNORECASE)
_BY_MONTH = re.compile(r"(?:^|/)(?:19|20)\d\d/(?:0[1-9]|1[0-2])/")


def offered(session: Session, roots: Sequence[str], path: str | None, state_dir: Path) -> FolderView:
    """What a folder holds, or which folders are offered. Raises Refusal for one that is not."""
    tops = [Path(root) for root in roots if os.path.isdir(root)]
    if path is None:
        return FolderView(path=None, folders=[OfferedFolder(name=str(top), path=str(top)) for top in tops])
    folder = within(tops, path)
    if not os.path.isdir(folder):
        raise Refusal("folder-missing", f"there is no folder {path} on the service's machine")
    found = _looked_through(folder)
    try:
        checked_root(session, str(folder), state_dir)
        refusal = None
    except Refusal as error:
        refusal = str(error)
    return FolderView(
        path=str(folder),
        parent=None if folder in _real(tops) else str(folder.parent),
        folders=_folders(folder),
        pictures=len(found.pictures),
        bytes=found.bytes,
        more=found.more,
        examples=[str(folder / name) for name in _examples(found.pictures)],
        guess=_guess(found.pictures),
        refusal=refusal,
    )


def within(roots: Sequence[Path], path: str) -> Path:
    """A path as it really is, when it is in one of the folders, and no part of it is hidden. Raises
    Refusal."""
    try:
        real = Path(os.path.realpath(path))
    except (OSError, ValueError):
        raise _not_offered(path) from None
    for top in _real(roots):
        if real.is_relative_to(top) and not any(part.startswith(".") for part in real.relative_to(top).parts):
            return real
    raise _not_offered(path)


def example(roots: Sequence[str], path: str, most_bytes: int) -> bytes:
    """The bytes of a picture in one of the folders, to be shown small. Raises Refusal."""
    real = within([Path(root) for root in roots], path)
    if not _is_picture(real.name):
        raise Refusal("not-a-picture", f"{path} is no picture by its name")
    try:
        # Neither a device nor a pipe is opened, also not one that takes the name at this moment.
        handle = os.open(real, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK)
        with os.fdopen(handle, "rb") as file:
            facts = os.fstat(file.fileno())
            if not os.path.isfile(file.fileno()) or facts.st_size > most_bytes:
                raise Refusal("cannot-show", f"{path} is too large to be shown small, or no file")
            return file.read(most_bytes)
    except OSError as error:
        raise Refusal("cannot-show", f"{path} cannot be read ({error.strerror})") from None


def _not_offered(path: str) -> Refusal:
    return Refusal(
        "folder-missing",
        f"{path} is in none of the folders that are offered here: type its path, or name its folder in the "
        "setting offered_folders",
    )


def _real(roots: Sequence[Path]) -> list[Path]:
    return [Path(os.path.realpath(root)) for root in roots]


def _folders(folder: Path) -> list[OfferedFolder]:
    try:
        with os.scandir(folder) as entries:
            names = [
                entry.name for entry in entries if _counts(entry.name) and entry.is_dir(follow_symlinks=False)
            ]
    except OSError:
        return []
    return [OfferedFolder(name=name, path=str(folder / name)) for name in sorted(names)[:_FOLDERS]]


@dataclass(slots=True)
class _Found:
    """Pictures by their paths below the folder; ``more``: the look ended before its end."""

    pictures: list[str] = field(default_factory=list)
    bytes: int = 0
    more: bool = False


def _looked_through(folder: Path) -> _Found:
    """Level by level, so that a look that ends early has seen some of everything."""
    found, waiting, seen = _Found(), [""], 0
    until = time.monotonic() + _SECONDS
    for place in waiting:
        try:
            with os.scandir(folder / place) as entries:
                for entry in entries:
                    seen += 1
                    if seen > _MOST_ENTRIES or time.monotonic() > until:
                        found.more = True
                        return found
                    name = f"{place}/{entry.name}".lstrip("/")
                    if not _counts(entry.name):
                        continue
                    if entry.is_dir(follow_symlinks=False):
                        waiting.append(name)
                    elif _is_picture(name) and entry.is_file(follow_symlinks=False):
                        found.pictures.append(name)
                        found.bytes += entry.stat(follow_symlinks=False).st_size
        except OSError:
            found.more = True
    return found


def _counts(name: str) -> bool:
    """Whether a name is looked at: no hidden one, and none that is not UTF-8, as in a survey."""
    return not name.startswith(".") and not any("\ud800" <= character <= "\udfff" for character in name)


def _is_picture(name: str) -> bool:
    return os.path.splitext(name)[1].lower() in _ENDINGS


def _examples(pictures: list[str]) -> list[str]:
    """Some from everywhere, renditions only where there is nothing else."""
    chosen = [name for name in pictures if not _BY_SIZE.search(name)] or pictures
    step = max(1, len(chosen) // _EXAMPLES)
    return chosen[::step][:_EXAMPLES]


def _guess(pictures: list[str]) -> str | None:
    """What seems to have made the folders, as a guess, and what follows for sizes."""
    tops = {name.partition("/")[0] for name in pictures}
    if {"original_images", "images"} <= tops:
        return (
            "It looks like the media folder of Wagtail: originals in original_images, renditions in images. "
            "They are told apart by their names; its app says it exactly."
        )
    if "styles" in tops:
        return (
            "It looks like the files of Drupal, with renditions in styles. They are found by their folders."
        )
    by_size = sum(1 for name in pictures if _BY_SIZE.search(name))
    if by_size * 10 >= len(pictures) > 0 and any(_BY_MONTH.search(name) for name in pictures):
        return (
            f"It looks like the uploads of WordPress, or of a CMS with the same folders by year and month. "
            f"{by_size:,} of these files are renditions by their names, such as photo-300x200.jpg."
        )
    if any(_BY_MONTH.search(name) for name in pictures):
        return "Folders by year and month, as many CMSs make them. Renditions are found by their names."
    return None
