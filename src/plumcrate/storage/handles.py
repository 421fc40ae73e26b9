"""Linux calls that Python does not offer: opening without links, exchanging names, noticing writers."""

from __future__ import annotations

import contextlib
import ctypes
import errno
import fcntl
import os
import signal
from collections.abc import Iterator
from contextlib import contextmanager

from .store import Writers

_RENAME_NOREPLACE = 1
_RENAME_EXCHANGE = 2
_RESOLVE_NO_SYMLINKS = 0x04
_RESOLVE_BENEATH = 0x08
_OPENAT2 = 437  # the same number on every architecture
_F_SETSIG = 10
_UNSUPPORTED = (errno.EINVAL, errno.ENOSYS, errno.ENOTSUP)

_libc = ctypes.CDLL(None, use_errno=True)


class _OpenHow(ctypes.Structure):
    _fields_ = [(name, ctypes.c_uint64) for name in ("flags", "mode", "resolve")]


def open_folder(root: int, folder: str) -> int:
    """Opens a folder below ``root``; no part of the path may be a link. Raises OSError.

    ``openat2(2)`` where the kernel has it, else one step after another.
    """
    flags = os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC
    if not folder:
        return os.open(".", flags, dir_fd=root)
    how = _OpenHow(flags, 0, _RESOLVE_NO_SYMLINKS | _RESOLVE_BENEATH)
    for _ in range(8):
        opened: int = _libc.syscall(
            _OPENAT2, root, os.fsencode(folder), ctypes.byref(how), ctypes.sizeof(how)
        )
        if opened >= 0:
            return opened
        code = ctypes.get_errno()
        if code != errno.EAGAIN:  # somebody renamed meanwhile
            break
    if code in (errno.ENOSYS, errno.EPERM, errno.EAGAIN):
        return _open_by_steps(root, folder, flags)
    raise OSError(code, os.strerror(code), folder)


def _open_by_steps(root: int, folder: str, flags: int) -> int:
    here = os.dup(root)
    for part in folder.split("/"):
        try:
            below = os.open(part, flags | os.O_NOFOLLOW, dir_fd=here)
        except NotADirectoryError as error:
            if os.path.islink(f"/proc/self/fd/{here}/{part}"):
                raise OSError(errno.ELOOP, os.strerror(errno.ELOOP), folder) from None
            raise error from None
        finally:
            os.close(here)
        here = below
    return here


def exchange(folder: int, first: str, second: str) -> bool:
    """Exchanges two names in a folder at once; false where the file system cannot. Raises OSError."""
    try:
        _renameat2(folder, first, second, _RENAME_EXCHANGE)
    except OSError as error:
        if error.errno not in _UNSUPPORTED:
            raise
        return False
    return True


def rename_to_free(folder: int, name: str, free: str) -> bool:
    """Gives a file another name unless that is taken; says whether it did. Raises OSError."""
    try:
        _renameat2(folder, name, free, _RENAME_NOREPLACE)
    except FileExistsError:
        return False
    except OSError as error:
        if error.errno not in _UNSUPPORTED:
            raise
        try:
            os.link(name, free, src_dir_fd=folder, dst_dir_fd=folder, follow_symlinks=False)
        except FileExistsError:
            return False
        os.unlink(name, dir_fd=folder)
    return True


def _renameat2(folder: int, first: str, second: str, flags: int) -> None:
    call = getattr(_libc, "renameat2", None)
    if call is None:
        raise OSError(errno.ENOSYS, "renameat2 is not available")
    if call(folder, os.fsencode(first), folder, os.fsencode(second), flags) != 0:
        code = ctypes.get_errno()
        raise OSError(code, os.strerror(code), first)


def writers_of(descriptor: int) -> Writers:
    """Whether somebody has a file open for writing, mapped memory included.

    The system grants a lease for reading (``fcntl(2)``, F_SETLEASE) only when nobody has. It is given
    back at once; should somebody open the file just then, the signal is one that is ignored by default.
    """
    try:
        fcntl.fcntl(descriptor, _F_SETSIG, signal.SIGURG)
        fcntl.fcntl(descriptor, fcntl.F_SETLEASE, fcntl.F_RDLCK)
    except BlockingIOError:
        return Writers.SOME
    except OSError:
        return Writers.UNKNOWN
    with contextlib.suppress(OSError):
        fcntl.fcntl(descriptor, fcntl.F_SETLEASE, fcntl.F_UNLCK)
    return Writers.NONE


@contextmanager
def closing(descriptor: int) -> Iterator[int]:
    """The descriptor, closed at the end."""
    try:
        yield descriptor
    finally:
        os.close(descriptor)
