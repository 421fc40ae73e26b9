"""The advisory locks that all workers share: a space and, in it, a key."""

from __future__ import annotations

import zlib

#: One picture at a time; the key is the picture's id.
PICTURE_LOCK = 727_010
#: One path at a time that is no file's yet; the key is made of the path.
PATH_LOCK = 727_015
#: One survey, check or intake of a library at a time; the key is the library's id.
LIBRARY_LOCK = 727_011
#: Runs of one library are made one at a time; the key is the library's id.
RUNS_LOCK = 727_002
#: Libraries are connected one at a time.
CONNECT_LOCK = 727_003
FEEDER_LOCK = (727_012, 1)
INTAKE_LOCK = 727_013
WATCH_LOCK = 727_014


def path_key(library_id: int, path: str) -> int:
    """The key of a path in :data:`PATH_LOCK`."""
    return zlib.crc32(f"{library_id}:{path}".encode())
