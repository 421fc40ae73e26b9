"""Logs as files: plain or gzip, rotated, gigabytes long, growing."""

from __future__ import annotations

import gzip
import hashlib
import os
import time
import zlib
from collections import defaultdict
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from datetime import date
from io import BufferedIOBase
from pathlib import Path

from .lines import Hit, hit_of, whole_lines
from .visitors import is_bot

_CHUNK = 1 << 20
#: A longer line is passed over: no server writes one.
_LONGEST = 65_536
#: Paths that are longer are no files of a library.
_LONGEST_PATH = 1_000
#: A batch ends with so many different counts, so many bytes of paths, or so many bytes of log.
_MOST_COUNTS, _MOST_PATHS, _MOST_BYTES = 10_000, 500_000, 256_000_000
#: Or so many bytes that were sent, which a sum on record still holds.
_MOST_SENT = 10**17

Key = tuple[date, bytes, int | None, bool]


@dataclass
class LogBatch:
    """What a stretch of a log says: requests and bytes by day, path, bytes of one answer (None for parts)
    and whether a program asked. ``lines`` counts all, ``foreign`` those that are no log line of ours to
    count."""

    begin: int
    end: int
    counts: dict[Key, list[int]] = field(default_factory=lambda: defaultdict(lambda: [0, 0]))
    paths: int = 0
    sent: int = 0
    lines: int = 0
    foreign: int = 0

    def add(self, hit: Hit, path: bytes) -> None:
        """Counts an answer, its path within the library."""
        counted = self.counts[hit.day, path, None if hit.part else hit.bytes, is_bot(hit.agent)]
        if not counted[0]:
            self.paths += len(path)
        counted[0] += 1
        counted[1] += hit.bytes
        self.sent += hit.bytes

    @property
    def full(self) -> bool:
        return (
            len(self.counts) >= _MOST_COUNTS
            or self.sent >= _MOST_SENT
            or self.paths >= _MOST_PATHS
            or self.end - self.begin >= _MOST_BYTES
        )


def opened(place: Path) -> BufferedIOBase:
    """A log, unpacked as it is read. Raises OSError."""
    with place.open("rb") as file:
        packed = file.read(2) == b"\x1f\x8b"
    return gzip.open(place, "rb") if packed else place.open("rb")


def number_of(place: Path) -> str | None:
    """What tells a log from others, wherever rotation puts it: its first line, hashed. None for one that has
    no whole line yet."""
    with opened(place) as file:
        first = file.readline(_LONGEST)
    if not first.endswith(b"\n") and len(first) < _LONGEST:
        return None
    return hashlib.sha256(first).hexdigest()[:16]


def batches(chunks: Iterator[bytes], begin: int, prefix: bytes) -> Iterator[LogBatch]:
    """The batches of a log from ``begin`` on. ``prefix``: the path under which the site serves the library, a
    slash at its end."""
    batch = LogBatch(begin, begin)
    needle = prefix if len(prefix) > 1 else b"/"
    plain = needle.isalnum() or not any(character in needle for character in b' %"\\')
    for line, taken in whole_lines(chunks, _LONGEST):
        batch.end += taken
        batch.lines += 1
        # Most lines are of other things; addresses may be written with escapes or as whole ones.
        if plain and needle not in line and b"%" not in line:
            if line[:1] not in (b"{", b"") and b'"' not in line:
                batch.foreign += 1
        else:
            hit = hit_of(line)
            if hit is None:
                batch.foreign += line[:1] != b"{" and b'" ' not in line
            elif hit.path.startswith(prefix) and len(prefix) < len(hit.path) <= _LONGEST_PATH:
                batch.add(hit, hit.path[len(prefix) :])
        if batch.full:
            yield batch
            batch = LogBatch(batch.end, batch.end)
    if batch.end > batch.begin:
        yield batch


def chunks_of(file: BufferedIOBase, begin: int) -> Iterator[bytes]:
    """The bytes of a log from a place on; a packed one that is broken off ends there."""
    try:
        file.seek(begin)
        while chunk := file.read1(_CHUNK):  # what is there, before a break is noticed
            yield chunk
    except (EOFError, zlib.error, gzip.BadGzipFile):
        return


def follow(place: Path, begin: int, pause: Callable[[float], None] = time.sleep) -> Iterator[bytes]:
    """What is written to a log, as it is written, until another takes its place. Never ends by itself before;
    an empty piece says that nothing more is there just now."""
    with place.open("rb") as file:
        file.seek(begin)
        while True:
            chunk = file.read(_CHUNK)
            if chunk:
                yield chunk
                continue
            yield b""
            if not _is_still(place, file):
                # What was written between the last look and the change of files.
                while chunk := file.read(_CHUNK):
                    yield chunk
                return
            pause(1.0)


def _is_still(place: Path, file: BufferedIOBase) -> bool:
    """Whether a log is the one that is open, and was not cut short."""
    try:
        there = place.stat()
    except FileNotFoundError:
        return True  # between two steps of a rotation
    here = os.fstat(file.fileno())
    return (there.st_dev, there.st_ino) == (here.st_dev, here.st_ino) and here.st_size >= file.tell()
