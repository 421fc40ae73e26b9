"""A process that has loaded the core and forks the sandbox's children from itself.

Loading the core and its compiled kernels takes seconds of processor time and a hundred megabytes. A fork
server does it once; each child shares that memory and starts in milliseconds. The server decodes nothing that
a stranger made: it never sees a byte of a picture.

A request is one message on a socket of whole messages (``SOCK_SEQPACKET``, unix(7)): the child's terms as
JSON, and three descriptors: the child's end of its link, the end of a pipe that is closed when the parent
dies, and a socket for its status. The server answers there with the child's number and a handle for it
(pidfd_open(2)), and with its exit code when it has ended. Several processes may share one server; it ends
when all have gone."""

from __future__ import annotations

import contextlib
import json
import os
import select
import signal
import socket
import subprocess
import sys
import threading
from dataclasses import asdict, dataclass

#: All that a child knows of our environment.
_ENVIRONMENT = {
    "LANG": "C.UTF-8",
    "PATH": "/usr/bin:/bin",
    "OMP_NUM_THREADS": "1",
    "NUMBA_NUM_THREADS": "1",
    "OPENBLAS_NUM_THREADS": "1",
    "PYTHONHASHSEED": "0",
    "SVT_LOG": "0",
}

#: Where compiled code and libraries are.
_KEPT = ("NUMBA_CACHE_DIR", "LD_LIBRARY_PATH")


@dataclass(frozen=True, slots=True)
class Terms:
    """What a child gets: niceness (0 to 19), megabytes of address space, and whether it is shut in."""

    nice: int
    memory_mb: int
    contained: bool = True


class Process:
    """A forked child, seen by the process that asked for it."""

    def __init__(self, pid: int, handle: int, status: socket.socket) -> None:
        self.pid = pid
        self._handle, self._status = handle, status
        self._code: int | None = None
        self._guard = threading.Lock()

    def __del__(self) -> None:
        os.close(self._handle)  # not before: its number would be another's, who would be ended by kill

    def poll(self) -> int | None:
        """Its exit code, negative for a signal; None while it runs."""
        return self._ended(0)

    def wait(self) -> int:
        """Its exit code, once it has ended."""
        code = self._ended(None)
        assert code is not None
        return code

    def kill(self) -> None:
        """Ends it at once."""
        if self._code is None:
            with contextlib.suppress(ProcessLookupError):
                signal.pidfd_send_signal(self._handle, signal.SIGKILL)

    def _ended(self, seconds: float | None) -> int | None:
        with self._guard:
            if self._code is None and select.select([self._status], [], [], seconds)[0]:
                said = self._status.recv(64)
                if not said:  # the server itself was ended: whoever asks wants the child gone
                    self.kill()
                self._code = int(said) if said else -signal.SIGKILL
                self._status.close()
            return self._code


class ForkServer:
    """Started when first asked. ``program`` is the module that is run; another one only in tests."""

    def __init__(self, program: str = "plumcrate.sandbox.child") -> None:
        self._program = program
        self._control: socket.socket | None = None
        self._server: subprocess.Popen[bytes] | None = None
        self._guard = threading.Lock()

    def fork(self, terms: Terms, link: int, watch: int) -> Process:
        """A child with its end of a link and of a watch. Raises OSError when there can be none."""
        ours, theirs = socket.socketpair()
        with ours, theirs:
            request = json.dumps(asdict(terms)).encode()
            descriptors = [link, watch, theirs.fileno()]
            with self._guard:
                try:
                    socket.send_fds(self._started(), [request], descriptors)
                except (BrokenPipeError, ConnectionResetError):
                    self._forget()  # the server was ended; there will be another
                    socket.send_fds(self._started(), [request], descriptors)
            theirs.close()
            said, handles, _, _ = socket.recv_fds(ours, 64, 1)
            if not handles:
                raise OSError("no child process could be started")
            return Process(int(said), handles[0], ours.dup())

    def start(self) -> int:
        """Starts the server before anybody asks; the descriptor that a process forked from this one keeps."""
        with self._guard:
            return self._started().fileno()

    def close(self) -> None:
        """Lets go of the server; it ends when nobody else holds it."""
        with self._guard:
            self._forget()

    def _forget(self) -> None:
        if self._control is None or self._server is None:
            return
        self._control.close()
        with contextlib.suppress(subprocess.TimeoutExpired):  # somebody else holds it still
            self._server.wait(5)
        self._control = self._server = None

    def _started(self) -> socket.socket:
        if self._control is None:
            ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
            kept = {name: os.environ[name] for name in _KEPT if name in os.environ}
            path = os.pathsep.join(part for part in sys.path if part)
            with theirs:
                self._server = subprocess.Popen(
                    [sys.executable, "-m", self._program, str(theirs.fileno())],
                    env=_ENVIRONMENT | kept | {"PYTHONPATH": path},
                    cwd="/",
                    pass_fds=(theirs.fileno(),),
                    stdin=subprocess.DEVNULL,
                    stdout=subprocess.DEVNULL,
                    stderr=subprocess.DEVNULL,
                    start_new_session=True,
                )
            self._control = ours
        return self._control


_shared = ForkServer()


def shared() -> ForkServer:
    """The server of this process, and of those that it forked."""
    return _shared
