"""Shutting a child process in before it decodes what a stranger made.

After :func:`shut_in` the process can reach no network, open no file for writing anywhere and none for reading
but the interpreter's own, start no program, and gain no privilege. Each part is taken where the system
offers it: Landlock (Linux 5.13, ``landlock(7)``) for files, a seccomp filter (``seccomp(2)``, through
libseccomp) for system calls, name spaces (``unshare(2)``) for the network, another user when started as root.
"""

from __future__ import annotations

import contextlib
import ctypes
import errno
import os
import stat
import sys
import sysconfig
from pathlib import Path

_CLONE_NEWUSER, _CLONE_NEWNET, _CLONE_NEWIPC = 0x10000000, 0x40000000, 0x08000000
_CLONE_THREAD = 0x00010000
_PR_SET_NO_NEW_PRIVS = 38
_NOBODY = 65534

#: Besides the interpreter, what may still be read.
_SYSTEM = ("/usr/lib", "/lib", "/lib64", "/usr/share/zoneinfo", "/dev/urandom")

#: System calls that a decoder has no use for.
# fmt: off
_REFUSED = (
    "socket", "connect", "bind", "listen", "accept", "accept4", "sendto", "sendmsg", "sendmmsg",
    "execve", "execveat", "fork", "vfork", "kill", "ptrace", "process_vm_readv", "process_vm_writev",
    "pidfd_open", "pidfd_getfd", "mount", "umount2", "pivot_root", "chroot", "setns", "unshare", "fsopen",
    "fsconfig", "fsmount", "open_tree", "move_mount", "rename", "renameat", "renameat2", "unlink", "unlinkat",
    "mkdir", "mkdirat", "rmdir", "link", "linkat", "symlink", "symlinkat", "mknod", "mknodat", "chmod",
    "fchmod", "fchmodat", "chown", "fchown", "fchownat", "lchown", "truncate", "setxattr", "lsetxattr",
    "fsetxattr", "utimensat", "bpf", "perf_event_open", "userfaultfd", "io_uring_setup", "keyctl", "add_key",
    "request_key", "open_by_handle_at", "name_to_handle_at", "init_module", "finit_module", "delete_module",
    "kexec_load", "kexec_file_load", "reboot", "swapon", "swapoff", "acct", "quotactl", "syslog",
    "settimeofday", "clock_settime", "adjtimex", "personality", "setuid", "setgid", "setresuid", "setresgid",
)
# fmt: on


def shut_in() -> dict[str, bool]:
    """Gives everything up; what holds: ``privileges``, ``network``, ``files``, ``calls``, ``user``."""
    with contextlib.suppress(Exception):
        import landlock  # noqa: F401
        import pyseccomp  # noqa: F401 - finding its library starts a program, which is refused later
    libc = ctypes.CDLL(None, use_errno=True)
    holds = {"privileges": libc.prctl(_PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0) == 0}
    root = os.geteuid() == 0
    space = _CLONE_NEWNET | _CLONE_NEWIPC | (0 if root else _CLONE_NEWUSER)
    holds["network"] = libc.unshare(space) == 0
    holds["user"] = not root or _become_nobody()
    holds["files"] = _no_files()
    holds["calls"] = _few_calls()
    holds["network"] |= holds["calls"]
    return holds


def _become_nobody() -> bool:
    """Whether root could be given up; not where nobody else may read the interpreter."""
    if not all(_readable_by_all(place) for place in _interpreter()):
        return False
    try:
        os.setgroups([])
        os.setresgid(_NOBODY, _NOBODY, _NOBODY)
        os.setresuid(_NOBODY, _NOBODY, _NOBODY)
    except OSError:
        return False
    return True


def _readable_by_all(place: Path) -> bool:
    return all(parent.stat().st_mode & stat.S_IXOTH for parent in (place, *place.parents))


def _interpreter() -> list[Path]:
    """The folders from which modules and libraries may still be loaded."""
    names = {sys.prefix, sys.base_prefix, sys.exec_prefix, *sysconfig.get_paths().values(), *sys.path}
    places = {Path(name).resolve() for name in names if name} | {Path(__file__).resolve().parents[2]}
    return sorted(place for place in places if place.is_dir() and place != Path("/"))


def _no_files() -> bool:
    try:
        from landlock import FSAccess, Ruleset

        rules = Ruleset()
        reading = FSAccess.READ_FILE | FSAccess.READ_DIR
        for place in (*_interpreter(), *map(Path, _SYSTEM)):
            if place.exists():
                rules.allow(place, rules=reading if place.is_dir() else FSAccess.READ_FILE)
        rules.apply()
    except Exception:  # no Landlock in this kernel, or it is switched off
        return False
    return True


def _few_calls() -> bool:
    try:
        import pyseccomp as seccomp

        chosen = seccomp.SyscallFilter(seccomp.ALLOW)
        for name in _REFUSED:
            with contextlib.suppress(OSError, ValueError):  # a call that this machine does not have
                chosen.add_rule(seccomp.ERRNO(errno.EPERM), name)
        # Threads are allowed, processes are not; clone3 hides its flags, so the C library falls back.
        chosen.add_rule(seccomp.ERRNO(errno.ENOSYS), "clone3")
        no_thread = seccomp.Arg(0, seccomp.MASKED_EQ, _CLONE_THREAD, 0)
        chosen.add_rule(seccomp.ERRNO(errno.EPERM), "clone", no_thread)
        chosen.load()
    except Exception:  # no libseccomp, or no right to load a filter
        return False
    return True
