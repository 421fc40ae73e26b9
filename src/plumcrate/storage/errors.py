"""What can go wrong with a library's files, in plain words."""

from __future__ import annotations

import errno


class StorageError(Exception):
    """A file could not be reached or written. ``code`` is stable, the message plain."""

    def __init__(self, code: str, message: str) -> None:
        super().__init__(message)
        self.code = code


class NotThere(StorageError):
    """The library's folder, or the state folder, is not there or is another one: everything waits."""

    def __init__(self, message: str) -> None:
        super().__init__("not-there", message)


#: Under the name stands something, and it is no regular file.
NO_FILE_CODES = frozenset({"not-a-file", "symbolic-link"})

_SENTENCES = {
    errno.ENOENT: ("gone", "{} is not there any more"),
    errno.ENOTDIR: ("gone", "{} is not there any more: a folder above it has become something else"),
    errno.EACCES: ("no-permission", "no permission to read or write {}: check its owner and mode"),
    errno.EPERM: ("no-permission", "the system forbids changing {}: check its owner and flags"),
    errno.EROFS: ("read-only", "the file system of {} is mounted read-only"),
    errno.ENOSPC: ("disk-full", "the disk is full; nothing was changed at {}: free some space"),
    errno.EDQUOT: ("disk-full", "the disk quota is used up; nothing was changed at {}"),
    errno.ENAMETOOLONG: ("name-too-long", "there is no room in the name of {} for what is added"),
    errno.ELOOP: ("symbolic-link", "{} is a symbolic link, which is left alone"),
    errno.EIO: ("disk-error", "the disk reported an error at {}: check its health"),
}


def explain(error: OSError, path: str) -> StorageError:
    """An operating-system error as a sentence an administrator can act on."""
    code, sentence = _SENTENCES.get(error.errno or 0, ("storage-error", ""))
    if not sentence:
        return StorageError(code, f"{path}: {error.strerror or error}")
    return StorageError(code, sentence.format(path))
