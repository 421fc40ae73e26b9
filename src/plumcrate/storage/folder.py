"""A library that is a folder tree on a local disk.

Paths are relative to the root, with forward slashes. No operation leaves the root, follows a
symbolic link, or ever leaves a half-written file under a name that somebody else reads.
"""

from __future__ import annotations

import ctypes
import errno
import hashlib
import os
import secrets
import stat
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

#: Names of files that are being staged begin so; surveys pass over them and recovery sweeps them.
STAGED_PREFIX = ".plumcrate-"

_AT_FDCWD = -100
_RENAME_NOREPLACE = 1
_RENAME_EXCHANGE = 2


class StorageError(Exception):
    """A file could not be reached or written. ``code`` is stable, the message plain."""

    def __init__(self, code: str, message: str) -> None:
        super().__init__(message)
        self.code = code


@dataclass(frozen=True, slots=True)
class Entry:
    """One file as the directory shows it. ``size`` in bytes, ``mtime_ns`` in nanoseconds."""

    path: str
    size: int
    mtime_ns: int


@dataclass(frozen=True, slots=True)
class Skipped:
    """Something the walk passed over, and why."""

    path: str
    reason: str


def explain(error: OSError, path: str) -> StorageError:
    """An operating-system error as a sentence an administrator can act on."""
    sentences = {
        errno.ENOENT: ("gone", f"{path} is not there any more"),
        errno.EACCES: ("no-permission", f"no permission to read or write {path}: check its owner and mode"),
        errno.EPERM: ("no-permission", f"the system forbids changing {path}: check its owner and flags"),
        errno.EROFS: ("read-only", f"the file system of {path} is mounted read-only"),
        errno.ENOSPC: ("disk-full", f"the disk is full; nothing was changed at {path}: free some space"),
        errno.EDQUOT: ("disk-full", f"the disk quota is used up; nothing was changed at {path}"),
        errno.ENAMETOOLONG: ("name-too-long", f"there is no room in the name of {path} for what is added"),
        errno.ELOOP: ("symbolic-link", f"{path} is a symbolic link, which is left alone"),
        errno.EIO: ("disk-error", f"the disk reported an error at {path}: check its health"),
    }
    code, sentence = sentences.get(error.errno or 0, ("storage-error", f"{path}: {error.strerror or error}"))
    return StorageError(code, sentence)


class Folder:
    """The files below ``root``."""

    def __init__(self, root: str | Path) -> None:
        self.root = Path(os.path.realpath(root))

    # -- looking -----------------------------------------------------------------------------

    def walk(self, below: str = "") -> Iterator[Entry | Skipped]:
        """Every regular file, depth first; links, hidden folders and odd names come as skipped."""
        for _, entries in self.walk_folders(below):
            yield from entries

    def walk_folders(self, top: str = "") -> Iterator[tuple[str, list[Entry | Skipped]]]:
        """Each folder with what it holds, before the folders in it.

        A folder that cannot be listed comes with a single :class:`Skipped` that bears its own path.
        """
        pending = [top]
        while pending:
            folder = pending.pop()
            try:
                entries = sorted(os.scandir(self.root / folder), key=lambda entry: entry.name)
            except OSError as error:
                yield folder, [Skipped(folder or ".", str(explain(error, folder or ".")))]
                continue
            below: list[str] = []
            found: list[Entry | Skipped] = []
            for entry in entries:
                path = f"{folder}/{entry.name}" if folder else entry.name
                if entry.name.startswith("."):
                    continue
                if not _is_text(entry.name):
                    shown = path.encode("utf-8", "surrogateescape").decode("utf-8", "replace")
                    found.append(Skipped(shown, "the name is not UTF-8"))
                elif entry.is_symlink():
                    found.append(Skipped(path, "a symbolic link"))
                elif entry.is_dir(follow_symlinks=False):
                    below.append(path)
                elif entry.is_file(follow_symlinks=False):
                    try:
                        facts = entry.stat(follow_symlinks=False)
                    except OSError:
                        continue  # deleted while we looked
                    found.append(Entry(path, facts.st_size, facts.st_mtime_ns))
            yield folder, found
            pending.extend(reversed(below))

    def place(self, path: str) -> Path:
        """The absolute place of a relative path. Raises StorageError when it would leave the root."""
        full = self.root / path
        parent = Path(os.path.realpath(full.parent))
        if ".." in Path(path).parts or not parent.is_relative_to(self.root):
            raise StorageError("outside", f"{path} leads out of the library, so it is left alone")
        return parent / full.name

    def stat(self, path: str) -> os.stat_result:
        """Facts of a regular file. Raises StorageError."""
        try:
            facts = os.lstat(self.place(path))
        except OSError as error:
            raise explain(error, path) from None
        if not stat.S_ISREG(facts.st_mode):
            raise StorageError("symbolic-link", f"{path} is not a regular file, so it is left alone")
        return facts

    def read(self, path: str, limit: int | None = None) -> bytes:
        """The whole file, or its first ``limit`` bytes. Raises StorageError."""
        try:
            descriptor = os.open(self.place(path), os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC)
            with os.fdopen(descriptor, "rb") as file:
                return file.read() if limit is None else file.read(limit)
        except OSError as error:
            raise explain(error, path) from None

    def sha256(self, path: str) -> bytes | None:
        """The hash of a file's content; None when there is no such file. Raises StorageError."""
        try:
            return hashlib.sha256(self.read(path)).digest()
        except StorageError as error:
            if error.code in ("gone", "name-too-long"):
                return None
            raise

    def exists(self, path: str) -> bool:
        """Whether the name is taken, by anything at all."""
        return os.path.lexists(self.place(path))

    # -- changing ----------------------------------------------------------------------------

    def staged_name(self, path: str) -> str:
        """A new hidden name in the same folder as ``path``."""
        folder = path.rpartition("/")[0]
        name = f"{STAGED_PREFIX}{secrets.token_hex(8)}"
        return f"{folder}/{name}" if folder else name

    def stage(self, name: str, data: bytes, like: str | None = None, *, keep_times: bool = False) -> None:
        """Writes a new file durably, with the mode, extended attributes and, where allowed, the owner
        of the file ``like``; without one as any new file in its folder.

        Raises StorageError; then nothing is left under the name.
        """
        place = self.place(name)
        facts = None if like is None else self.stat(like)
        try:
            flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
            descriptor = os.open(place, flags, 0o600)
            try:
                with os.fdopen(descriptor, "wb") as file:
                    file.write(data)
                    file.flush()
                    if facts is None or like is None:
                        os.fchmod(file.fileno(), 0o666 & ~_UMASK)
                    else:
                        if (facts.st_uid, facts.st_gid) != (os.geteuid(), os.getegid()):
                            _try_chown(file.fileno(), facts)
                        os.fchmod(file.fileno(), stat.S_IMODE(facts.st_mode))
                        _copy_attributes(self.place(like), file.fileno())
                        if keep_times:
                            os.utime(file.fileno(), ns=(facts.st_atime_ns, facts.st_mtime_ns))
                    os.fsync(file.fileno())
            except BaseException:
                place.unlink(missing_ok=True)
                raise
        except OSError as error:
            raise explain(error, name) from None

    def exchange(self, first: str, second: str) -> None:
        """Swaps two names at once. Raises StorageError.

        Where the file system cannot exchange, ``second`` replaces ``first`` and the first file's
        bytes are kept under ``second``: atomically for whoever reads ``first``.
        """
        one, other = self.place(first), self.place(second)
        try:
            _renameat2(one, other, _RENAME_EXCHANGE)
        except OSError as error:
            if error.errno not in (errno.EINVAL, errno.ENOSYS, errno.ENOTSUP):
                raise explain(error, first) from None
            aside = self.place(self.staged_name(first))
            try:
                os.link(one, aside)
                os.replace(other, one)
                os.replace(aside, other)
            except OSError as second_error:
                raise explain(second_error, first) from None
        try:
            sync_folder(one.parent)
        except OSError as error:
            raise explain(error, first) from None

    def can_exchange(self, first: str, second: str) -> bool:
        """Whether this file system swaps two names at once; swaps these two when it does."""
        try:
            _renameat2(self.place(first), self.place(second), _RENAME_EXCHANGE)
        except OSError:
            return False
        return True

    def publish(self, staged: str, path: str) -> bool:
        """Gives a staged file its name unless the name is taken; says whether it did."""
        source, target = self.place(staged), self.place(path)
        try:
            try:
                _renameat2(source, target, _RENAME_NOREPLACE)
            except OSError as error:
                if error.errno not in (errno.EINVAL, errno.ENOSYS, errno.ENOTSUP):
                    raise
                os.link(source, target)
                os.unlink(source)
            sync_folder(target.parent)
        except FileExistsError:
            return False
        except OSError as error:
            raise explain(error, path) from None
        return True

    def withdraw(self, path: str, aside: str) -> None:
        """Gives a file a hidden name that is free. Raises StorageError."""
        if not self.publish(path, aside):
            raise StorageError("name-taken", f"{aside} is taken, so {path} was left in place")

    def make_folder(self, path: str) -> None:
        """Makes a folder and those above it, below the root. Raises StorageError."""
        self.place(f"{path}/x" if path else "x")
        try:
            (self.root / path).mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise explain(error, path) from None

    def remove(self, path: str) -> None:
        """Deletes a file; it is no error when it is gone already. Raises StorageError."""
        place = self.place(path)
        try:
            place.unlink(missing_ok=True)
            sync_folder(place.parent)
        except OSError as error:
            raise explain(error, path) from None

    def set_mtime(self, path: str, mtime_ns: int) -> None:
        """Sets the time of the last change, and of the last reading, to the same moment."""
        try:
            os.utime(self.place(path), ns=(mtime_ns, mtime_ns), follow_symlinks=False)
        except OSError as error:
            raise explain(error, path) from None


def sync_folder(folder: Path) -> None:
    """Makes the names in a folder durable; a folder that is gone has nothing to make durable."""
    try:
        descriptor = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    except FileNotFoundError:
        return
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)


def _is_text(name: str) -> bool:
    try:
        name.encode("utf-8")
    except UnicodeEncodeError:
        return False
    return True


def _try_chown(descriptor: int, like: os.stat_result) -> None:
    try:
        os.fchown(descriptor, like.st_uid, like.st_gid)
    except PermissionError:
        # Without the right to give files away, the group alone may still be possible.
        try:
            os.fchown(descriptor, -1, like.st_gid)
        except PermissionError:
            return


def _copy_attributes(source: Path, descriptor: int) -> None:
    """Extended attributes, as far as the system lets them be set."""
    try:
        names = os.listxattr(source, follow_symlinks=False)
    except OSError:
        return
    for name in names:
        try:
            os.setxattr(descriptor, name, os.getxattr(source, name, follow_symlinks=False))
        except OSError:
            continue


def _umask() -> int:
    mask = os.umask(0o022)
    os.umask(mask)
    return mask


_UMASK = _umask()
_libc = ctypes.CDLL(None, use_errno=True)


def _renameat2(first: Path, second: Path, flags: int) -> None:
    """Linux ``renameat2(2)``. Raises OSError; ENOSYS where the C library lacks it."""
    call = getattr(_libc, "renameat2", None)
    if call is None:
        raise OSError(errno.ENOSYS, "renameat2 is not available")
    if call(_AT_FDCWD, os.fsencode(first), _AT_FDCWD, os.fsencode(second), flags) != 0:
        code = ctypes.get_errno()
        raise OSError(code, os.strerror(code), str(first))
