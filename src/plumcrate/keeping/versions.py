"""The bytes of a file: as it is now, as it first was, or as what we made beside it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import BinaryIO

from plumcrate.contract.pictures import FileState, Purpose
from plumcrate.records.tables import Derived, File

from .keeper import Keeper

NOW, BEFORE = "now", "before"
_SECOND = 1_000_000_000


class NoVersion(Exception):
    """A file has no such version; the text says which."""


@dataclass(frozen=True, slots=True)
class Version:
    """Some bytes of a file: how they are opened, and what tells them from others: ``tag``, and ``modified``
    in seconds since 1970."""

    path: str
    format: str | None
    size: int
    tag: str
    modified: int
    open: Callable[[], BinaryIO]


def version_of(keeper: Keeper, file: File, name: str) -> Version:
    """A version by its name: ``now``, ``before``, or that of a derived file. Raises :class:`NoVersion`.

    Of a file that made way for its conversion, ``now`` is what stands for it.
    """
    if name == BEFORE and file.before_sha256 is not None:
        sha = file.before_sha256
        return Version(
            file.path,
            file.format,
            file.size_before,
            file.original_version,
            file.mtime_ns_before // _SECOND,
            lambda: keeper.backups.open(sha),
        )
    if name in (NOW, BEFORE) and file.state != FileState.REMOVED:
        return Version(
            file.path,
            file.format,
            file.size_now,
            file.version if name == NOW else file.original_version,
            file.mtime_ns // _SECOND,
            lambda: keeper.store.open(file.path),
        )
    derived = file.conversion if name == NOW else None
    derived = derived or next((one for one in file.derived if name_of(one) == name), None)
    if derived is None:
        raise NoVersion(f"{file.path} has no version {name}")
    return _beside(keeper, file, derived)


def name_of(derived: Derived) -> str:
    """What a derived file is called as a version: its format, of a leaner copy behind ``save-data-``."""
    return f"{Purpose.SAVE_DATA}-{derived.format}" if derived.purpose == Purpose.SAVE_DATA else derived.format


def _beside(keeper: Keeper, file: File, derived: Derived) -> Version:
    return Version(
        derived.path,
        derived.format,
        derived.size,
        derived.sha256.hex(),
        int(file.treated_at.timestamp()) if file.treated_at else file.mtime_ns // _SECOND,
        lambda: keeper.store.open(derived.path),
    )
