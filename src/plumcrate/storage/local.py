"""A library that is a folder tree on a disk of this machine.

Every path is opened from the root folder's own descriptor, one step after another and never through a
link. A visit keeps that descriptor, so that a folder that is renamed or mounted over meanwhile cannot
turn half of a change into a change of something else.
"""

from __future__ import annotations

import contextlib
import errno
import io
import os
import secrets
import shutil
import stat
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import BinaryIO, cast

from . import handles
from .errors import NotThere, StorageError, explain
from .names import IDENTITY_NAME, STAGED_PREFIX, checked, is_ours, shown
from .store import HALF_SWAPPED, FileFacts, ListedFile, Listing, Skipped, Store, Writers, require_hidden

_IDENTITY_BYTES = 200
#: A folder that held its identity file is believed to be the one for so many seconds, while it is the same
#: folder.
_BELIEVED = 1.0


#: Nanoseconds since 1970 that fit 64 bits.
_LATEST_NS = 2**63 - 1


class LocalStore(Store):
    """The files below ``root``. ``identity``: what the folder must hold, None while it holds none yet.

    ``leases`` and ``exchanges`` switch system calls off that not every file system has.
    """

    def __init__(
        self, root: str | Path, identity: str | None = None, *, leases: bool = True, exchanges: bool = True
    ) -> None:
        self.root = Path(root)
        self.label = str(root)
        self.identity = identity
        self._leases, self._exchanges = leases, exchanges
        self._pinned = threading.local()
        self._borne: tuple[tuple[int, int, str | None], float] | None = (
            None  # the folder that held the identity file, and when
        )

    # -- identity ----------------------------------------------------------------------------

    @contextmanager
    def visit(self) -> Iterator[None]:
        if self._pin is not None:
            yield
            return
        with handles.closing(self._enter()) as root:
            self._pinned.root = root
            try:
                yield
            finally:
                self._pinned.root = None

    @property
    def _pin(self) -> int | None:
        return getattr(self._pinned, "root", None)

    @contextmanager
    def _at_root(self) -> Iterator[int]:
        if self._pin is not None:
            yield self._pin
            return
        with handles.closing(self._enter()) as root:
            yield root

    def _enter(self) -> int:
        root = self._open()
        try:
            self._check(root)
        except NotThere:
            os.close(root)
            raise
        return root

    def _check(self, root: int) -> None:
        """Raises NotThere when a folder does not hold the identity file that is due."""
        try:
            borne = _identity_in(root)
        except OSError as error:
            raise NotThere(f"the folder {self.root} cannot be reached ({error.strerror})") from None
        if self.identity is not None and borne != self.identity:
            said = (
                "holds another library's identity file"
                if borne
                else "does not hold this library's identity file"
            )
            raise NotThere(
                f"the folder {self.root} {said}: is the right volume mounted, was the folder moved? "
                "Nothing is concluded and nothing is written until it is back"
            )

    def _open(self) -> int:
        try:
            return os.open(self.root, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        except (FileNotFoundError, NotADirectoryError):
            raise NotThere(
                f"the folder {self.root} is not there: nothing was recorded as gone; bring it back"
            ) from None
        except (OSError, ValueError) as error:
            reason = getattr(error, "strerror", None) or error
            raise NotThere(f"the folder {self.root} cannot be reached ({reason})") from None

    def read_identity(self) -> str | None:
        with handles.closing(self._open()) as root:
            try:
                return _identity_in(root)
            except OSError as error:
                raise explain(error, IDENTITY_NAME) from None

    def write_identity(self, identity: str) -> None:
        if self._pin is not None:
            _write_identity_in(self._pin, identity, self.label)
        else:  # by the identity file alone a folder is known, so none is asked for here
            with handles.closing(self._open()) as root:
                _write_identity_in(root, identity, self.label)
        self.identity = identity

    def remove_identity(self) -> None:
        with self._at_root() as root:
            _unlink(root, IDENTITY_NAME, IDENTITY_NAME)
        self.identity = None

    def device(self) -> str:
        with self._at_root() as root:
            return f"{os.fstat(root).st_dev:x}:{os.fstatvfs(root).f_fsid:x}"

    def folder_id(self, path: str) -> str | None:
        try:
            with self._parent(path) as (folder, _):
                facts = os.fstat(folder)
                return f"{os.fstatvfs(folder).f_fsid or facts.st_dev:x}:{facts.st_ino:x}"
        except StorageError as error:
            if error.code in ("gone", "folder-is-link"):
                return None
            raise

    # -- looking -----------------------------------------------------------------------------

    def list(self, folder: str = "") -> Listing:
        listing = Listing()
        with self._folder(folder) as descriptor:
            try:
                with os.scandir(descriptor) as found:
                    entries = sorted(found, key=lambda entry: entry.name)
                for entry in entries:
                    if not entry.name.startswith("."):
                        _add(listing, folder, entry)
            except OSError as error:
                raise explain(error, folder or ".") from None
        return listing

    def facts(self, path: str) -> FileFacts:
        with self._parent(path) as (folder, name):
            status = _stat(folder, name, path)
        return _facts(status)

    def open(self, path: str) -> BinaryIO:
        with self._parent(path) as (folder, name):
            return _open_file(folder, name, path)

    @contextmanager
    def look_into(self, folder: str) -> Iterator[_Folder]:
        if folder:
            checked(folder)
        root = self._open()
        with handles.closing(root):
            facts = os.fstat(root)
            there, now = (facts.st_dev, facts.st_ino, self.identity), time.monotonic()
            if self._borne is None or self._borne[0] != there or now - self._borne[1] >= _BELIEVED:
                self._check(root)
                self._borne = (there, now)
            with self._below(root, folder, folder) as opened:
                yield _Folder(opened, folder)

    def taken(self, path: str) -> bool:
        try:
            with self._parent(path) as (folder, name):
                os.stat(name, dir_fd=folder, follow_symlinks=False)
        except FileNotFoundError:
            return False
        except StorageError as error:
            if error.code == "gone":
                return False
            raise
        except OSError as error:
            raise explain(error, path) from None
        return True

    def strays(self) -> Iterator[str]:
        pending = [""]
        while pending:
            folder = pending.pop()
            with self._folder(folder) as descriptor:
                try:
                    with os.scandir(descriptor) as found:
                        entries = list(found)
                except OSError:
                    continue
                for entry in entries:
                    path = f"{folder}/{entry.name}" if folder else entry.name
                    if entry.is_dir(follow_symlinks=False):
                        if not entry.name.startswith("."):
                            pending.append(path)
                    elif is_ours(entry.name) and entry.name != IDENTITY_NAME:
                        yield path

    def room(self) -> int:
        with self._at_root() as root:
            facts = os.fstatvfs(root)
        return facts.f_bavail * facts.f_frsize

    # -- changing ----------------------------------------------------------------------------

    def stage(
        self, hidden: str, data: bytes | BinaryIO, like: str | None = None, *, keep_times: bool = False
    ) -> None:
        require_hidden(hidden)
        with self._parent(hidden) as (folder, name):
            model = None if like is None else self.open(like)
            try:
                flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
                descriptor = os.open(name, flags, 0o600, dir_fd=folder)
                try:
                    with os.fdopen(descriptor, "wb") as file:
                        if isinstance(data, bytes):
                            file.write(data)
                        else:
                            data.seek(0)
                            shutil.copyfileobj(data, file, _PIECE)
                        file.flush()
                        if model is None:
                            os.fchmod(file.fileno(), 0o666 & ~_UMASK)
                        else:
                            _dress(file.fileno(), model.fileno(), keep_times=keep_times)
                        os.fsync(file.fileno())
                except BaseException:
                    with contextlib.suppress(OSError):
                        os.unlink(name, dir_fd=folder)
                    raise
            except OSError as error:
                raise explain(error, hidden) from None
            finally:
                if model is not None:
                    model.close()

    def swap(self, path: str, hidden: str) -> None:
        require_hidden(hidden)
        with self._parent(path) as (folder, name):
            staged = hidden.rpartition("/")[2]
            try:
                if not (self._exchanges and handles.exchange(folder, name, staged)):
                    _replace(folder, name, staged)
                os.fsync(folder)
            except OSError as error:
                raise explain(error, path) from None

    def can_exchange(self, hidden: str, other: str) -> bool:
        with self._parent(require_hidden(hidden)) as (folder, name):
            try:
                return self._exchanges and handles.exchange(folder, name, other.rpartition("/")[2])
            except OSError:
                return False

    def half_swapped(self, path: str, hidden: str) -> str | None:
        try:
            with self._parent(path) as (folder, name):
                staged = hidden.rpartition("/")[2]
                aside = staged + HALF_SWAPPED
                out = _lstat(folder, aside)
                if out is None:
                    return None
                if _lstat(folder, staged) is None:  # killed between the two renames
                    os.rename(aside, staged, src_dir_fd=folder, dst_dir_fd=folder)
                    return None
                here = _lstat(folder, name)
                if here is not None and (here.st_dev, here.st_ino) == (out.st_dev, out.st_ino):
                    os.unlink(aside, dir_fd=folder)  # killed before them: a second name of the file
                    return None
                return hidden + HALF_SWAPPED
        except StorageError as error:
            if error.code == "gone":
                return None
            raise
        except OSError as error:
            raise explain(error, path) from None

    def create(self, hidden: str, path: str) -> bool:
        return self._rename(require_hidden(hidden), path)

    def withdraw(self, path: str, hidden: str) -> bool:
        return self._rename(path, require_hidden(hidden))

    def _rename(self, path: str, free: str) -> bool:
        with self._parent(path) as (folder, name):
            try:
                done = handles.rename_to_free(folder, name, free.rpartition("/")[2])
                if done:
                    os.fsync(folder)
            except OSError as error:
                raise explain(error, path) from None
        return done

    def writers(self, hidden: str) -> Writers:
        require_hidden(hidden)
        if not self._leases:
            return Writers.UNKNOWN
        with self.open(hidden) as file:
            return handles.writers_of(file.fileno())

    def discard(self, hidden: str) -> None:
        require_hidden(hidden)
        try:
            with self._parent(hidden) as (folder, name):
                _unlink(folder, name, hidden)
        except StorageError as error:
            if error.code != "gone":
                raise

    def make_folder(self, folder: str) -> None:
        if not folder:
            return
        checked(folder)
        with self._at_root() as root:
            new: list[str] = []
            for part in folder.split("/"):
                try:
                    with handles.closing(handles.open_folder(root, "/".join(new))) as parent:
                        try:
                            os.mkdir(part, dir_fd=parent)
                            os.fsync(parent)
                        except FileExistsError:
                            pass
                    new.append(part)
                except OSError as error:
                    raise explain(error, folder) from None

    def set_mtime(self, path: str, mtime_ns: int) -> None:
        with self._parent(path) as (folder, name):
            try:
                os.utime(name, ns=(mtime_ns, mtime_ns), dir_fd=folder, follow_symlinks=False)
            except OSError as error:
                raise explain(error, path) from None

    # -- steps -------------------------------------------------------------------------------

    @contextmanager
    def _folder(self, folder: str) -> Iterator[int]:
        if folder:
            checked(folder)
        with self._at_root() as root:
            try:
                opened = handles.open_folder(root, folder)
            except OSError as error:
                raise explain(error, folder or ".") from None
            with handles.closing(opened):
                yield opened

    @contextmanager
    def _parent(self, path: str) -> Iterator[tuple[int, str]]:
        checked(path)
        folder, _, name = path.rpartition("/")
        with self._at_root() as root, self._below(root, folder, path) as opened:
            yield opened, name

    @contextmanager
    def _below(self, root: int, folder: str, path: str) -> Iterator[int]:
        """A folder, opened for the sake of a path."""
        try:
            opened = handles.open_folder(root, folder)
        except OSError as error:
            if error.errno == errno.ELOOP:
                raise StorageError(
                    "folder-is-link", f"a folder above {path} is a symbolic link, so the file is left alone"
                ) from None
            raise explain(error, path) from None
        with handles.closing(opened):
            yield opened


def _facts(status: os.stat_result) -> FileFacts:
    identity = f"{status.st_ino:x}-{status.st_ctime_ns:x}"
    return FileFacts(
        status.st_size, _bounded(status.st_mtime_ns), status.st_nlink, status.st_uid, identity=identity
    )


def _bounded(time_ns: int) -> int:
    """A time that records and headers can hold: from 1678 to 2262. File systems know others."""
    return max(-_LATEST_NS, min(time_ns, _LATEST_NS))


class _Folder:
    """An open folder, by its descriptor."""

    def __init__(self, descriptor: int, path: str) -> None:
        self._descriptor, self._path = descriptor, path

    def facts(self, name: str) -> FileFacts:
        status = _stat(self._descriptor, name, f"{self._path}/{name}")
        return _facts(status)

    def open(self, name: str) -> BinaryIO:
        return cast(BinaryIO, io.FileIO(_opened(self._descriptor, name, f"{self._path}/{name}"), "rb"))


def write_identity(root: Path, identity: str) -> None:
    """Writes an identity file into a folder that has none, durably. Raises StorageError ``other-identity``
    when it has one."""
    try:
        folder = os.open(root, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    except FileNotFoundError:
        raise NotThere(f"the folder {root} is not there") from None
    except OSError as error:
        raise explain(error, str(root)) from None
    with handles.closing(folder):
        _write_identity_in(folder, identity, str(root))


def _write_identity_in(folder: int, identity: str, label: str) -> None:
    staged = f"{STAGED_PREFIX}{secrets.token_hex(8)}"
    flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC
    try:
        try:
            with os.fdopen(os.open(staged, flags, 0o644, dir_fd=folder), "wb") as file:
                file.write(identity.encode() + _EXPLAINED)
                file.flush()
                os.fsync(file.fileno())
            if not handles.rename_to_free(folder, staged, IDENTITY_NAME) and _identity_in(folder) != identity:
                raise StorageError(
                    "other-identity",
                    f"the folder {label} holds the identity file of another library or installation: "
                    "two must not treat the same files",
                )
        finally:
            with contextlib.suppress(FileNotFoundError):
                os.unlink(staged, dir_fd=folder)
        os.fsync(folder)
    except OSError as error:
        raise explain(error, f"{label}/{IDENTITY_NAME}") from None


_EXPLAINED = b"\nBy this file Plum Crate knows that the right folder is mounted. Leave it in place.\n"


def identity_of(root: Path) -> str | None:
    """The identity file that a folder holds; None when it holds none. Raises OSError when it cannot be
    read."""
    with handles.closing(os.open(root, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)) as folder:
        return _identity_in(folder)


def _identity_in(folder: int) -> str | None:
    try:
        flags = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC
        with handles.closing(os.open(IDENTITY_NAME, flags, dir_fd=folder)) as file:
            return os.read(file, _IDENTITY_BYTES).partition(b"\n")[0].decode("ascii", "replace") or None
    except FileNotFoundError:
        return None


def _add(listing: Listing, folder: str, entry: os.DirEntry[str]) -> None:
    path = f"{folder}/{entry.name}" if folder else entry.name
    try:
        if entry.is_symlink():
            listing.skipped.append(Skipped(shown(path), "a symbolic link"))
            return
        checked(path)
        if entry.is_dir(follow_symlinks=False):
            listing.folders.append(path)
        elif entry.is_file(follow_symlinks=False):
            facts = entry.stat(follow_symlinks=False)
            listing.files.append(ListedFile(path, facts.st_size, _bounded(facts.st_mtime_ns)))
    except StorageError as error:
        listing.skipped.append(Skipped(shown(path), str(error).removeprefix(f"{shown(path)} ")))
    except FileNotFoundError:
        return  # deleted while we looked
    except OSError as error:
        listing.skipped.append(Skipped(shown(path), str(explain(error, "it"))))


def _lstat(folder: int, name: str) -> os.stat_result | None:
    try:
        return os.stat(name, dir_fd=folder, follow_symlinks=False)
    except FileNotFoundError:
        return None


def _replace(folder: int, name: str, staged: str) -> None:
    """Swaps two names where they cannot be exchanged at once: what had the name keeps a third one meanwhile.

    Should somebody put another file under the name after that, it is held open as it is replaced, and comes
    out in place of the first. Only a file that is put there between the opening and the renaming, two system
    calls in a row, would be lost. Raises OSError.
    """
    aside = staged + HALF_SWAPPED
    os.link(name, aside, src_dir_fd=folder, dst_dir_fd=folder, follow_symlinks=False)
    flags = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC
    with open(os.open(name, flags, dir_fd=folder), "rb") as last:
        os.rename(staged, name, src_dir_fd=folder, dst_dir_fd=folder)
        out, kept = os.fstat(last.fileno()), _lstat(folder, aside)
        if kept is None or (kept.st_dev, kept.st_ino) == (out.st_dev, out.st_ino):
            os.rename(aside, staged, src_dir_fd=folder, dst_dir_fd=folder)
            return
        create = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
        with open(os.open(staged, create, 0o600, dir_fd=folder), "wb") as file:
            shutil.copyfileobj(last, file)
            file.flush()
            _dress(file.fileno(), last.fileno(), keep_times=True)
            os.fsync(file.fileno())
    # What had the name first was replaced by them, not by us; as before any change, its backup is there.
    os.unlink(aside, dir_fd=folder)


def _stat(folder: int, name: str, path: str) -> os.stat_result:
    try:
        facts = os.stat(name, dir_fd=folder, follow_symlinks=False)
    except OSError as error:
        raise explain(error, path) from None
    if stat.S_ISLNK(facts.st_mode):
        raise StorageError("symbolic-link", f"{path} is a symbolic link, so it is left alone")
    if not stat.S_ISREG(facts.st_mode):
        raise StorageError("not-a-file", f"{path} is not a regular file, so it is left alone")
    return facts


def _open_file(folder: int, name: str, path: str) -> BinaryIO:
    _stat(folder, name, path)  # nothing is opened that answers to being opened, such as a device
    return os.fdopen(_opened(folder, name, path), "rb")


def _opened(folder: int, name: str, path: str) -> int:
    try:
        flags = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC
        descriptor = os.open(name, flags, dir_fd=folder)
    except OSError as error:
        raise explain(error, path) from None
    if not stat.S_ISREG(os.fstat(descriptor).st_mode):
        os.close(descriptor)
        raise StorageError("not-a-file", f"{path} is not a regular file, so it is left alone")
    return descriptor


def _unlink(folder: int, name: str, path: str) -> None:
    try:
        os.unlink(name, dir_fd=folder)
        os.fsync(folder)
    except FileNotFoundError:
        return
    except OSError as error:
        raise explain(error, path) from None


def _dress(descriptor: int, model: int, *, keep_times: bool) -> None:
    """Mode, extended attributes and, where allowed, the owner of another file."""
    facts = os.fstat(model)
    if (facts.st_uid, facts.st_gid) != (os.geteuid(), os.getegid()):
        _try_chown(descriptor, facts)
    os.fchmod(descriptor, stat.S_IMODE(facts.st_mode))
    with contextlib.suppress(OSError):
        for name in os.listxattr(model):
            with contextlib.suppress(OSError):
                os.setxattr(descriptor, name, os.getxattr(model, name))
    if keep_times:
        os.utime(descriptor, ns=(facts.st_atime_ns, facts.st_mtime_ns))


def _try_chown(descriptor: int, like: os.stat_result) -> None:
    try:
        os.fchown(descriptor, like.st_uid, like.st_gid)
    except PermissionError:
        # Without the right to give files away, the group alone may still be possible.
        with contextlib.suppress(PermissionError):
            os.fchown(descriptor, -1, like.st_gid)


def _umask() -> int:
    mask = os.umask(0o022)
    os.umask(mask)
    return mask


#: What is copied is read in pieces of so many bytes.
_PIECE = 1 << 20
_UMASK = _umask()
