"""Programs of ours, forked from one process that has imported them, which saves seconds each time.

``python -m forks CONTROL`` is that process; each test process starts one. A forked program differs from one
that was started only in who imported its modules: its environment, its folder, its descriptors and its
session are its own."""

from __future__ import annotations

import contextlib
import ctypes
import json
import os
import runpy
import select
import selectors
import signal
import socket
import subprocess
import sys
import tempfile
from collections.abc import Mapping, Sequence
from pathlib import Path

_HERE = Path(__file__).parent
_PR_SET_PDEATHSIG = 1  # prctl(2)


class Process:
    """A forked program, as :class:`subprocess.Popen` would show it."""

    def __init__(self, pid: int, handle: int, status: socket.socket) -> None:
        self.pid, self.returncode = pid, None
        self._handle, self._status = handle, status

    returncode: int | None

    def poll(self) -> int | None:
        return self._ended(0)

    def wait(self, timeout: float | None = None) -> int:
        code = self._ended(timeout)
        if code is None:
            raise subprocess.TimeoutExpired(str(self.pid), timeout or 0)
        return code

    def send_signal(self, number: int) -> None:
        if self.poll() is None:
            with contextlib.suppress(ProcessLookupError):
                signal.pidfd_send_signal(self._handle, number)

    def terminate(self) -> None:
        self.send_signal(signal.SIGTERM)

    def kill(self) -> None:
        self.send_signal(signal.SIGKILL)

    def _ended(self, seconds: float | None) -> int | None:
        if self.returncode is None and select.select([self._status], [], [], seconds)[0]:
            said = self._status.recv(64)
            assert said, "the process that forks was ended"
            self.returncode = int(said)
            self._status.close()
            os.close(self._handle)
        return self.returncode


class Forker:
    """Starts programs; itself started when first asked."""

    def __init__(self) -> None:
        self._control: socket.socket | None = None

    def start(
        self,
        module: str,
        arguments: Sequence[str] = (),
        *,
        environment: Mapping[str, str],
        cwd: Path | None = None,
        stdin: int | None = None,
        stdout: int,
        stderr: int,
    ) -> Process:
        """``python -m module arguments``; descriptors are duplicated, so the caller may close its own."""
        if self._control is None:
            self._begin()
        assert self._control is not None
        request = {
            "module": module,
            "arguments": [str(argument) for argument in arguments],
            "environment": dict(environment),
            "cwd": str(cwd or os.getcwd()),
        }
        ours, theirs = socket.socketpair()
        with ours, theirs, open(os.devnull, "rb") as nothing, tempfile.TemporaryFile() as told:
            told.write(json.dumps(request).encode())
            told.flush()
            fds = [
                nothing.fileno() if stdin is None else stdin,
                stdout,
                stderr,
                theirs.fileno(),
                told.fileno(),
            ]
            socket.send_fds(self._control, [b"P"], fds)
            theirs.close()
            said, handles, _, _ = socket.recv_fds(ours, 64, 1)
            assert handles, "the process that forks was ended"
            return Process(int(said), handles[0], ours.dup())

    def run(
        self,
        module: str,
        arguments: Sequence[str],
        *,
        environment: Mapping[str, str] | None = None,
        cwd: Path | None = None,
        input: bytes = b"",
        timeout: float = 300,
    ) -> subprocess.CompletedProcess[str]:
        """As :func:`subprocess.run` with captured text."""
        made = tempfile.TemporaryFile
        with made() as given, made() as out, made() as err:
            given.write(input)
            given.seek(0)
            process = self.start(
                module,
                arguments,
                environment=os.environ if environment is None else environment,
                cwd=cwd,
                stdin=given.fileno(),
                stdout=out.fileno(),
                stderr=err.fileno(),
            )
            try:
                code = process.wait(timeout)
            except subprocess.TimeoutExpired:
                process.kill()
                process.wait()
                raise
            texts = []
            for file in (out, err):
                file.seek(0)
                texts.append(file.read().decode())
        return subprocess.CompletedProcess([module, *arguments], code, *texts)

    def _begin(self) -> None:
        ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        with theirs:
            path = os.pathsep.join([str(_HERE), *(part for part in sys.path if part)])
            self._process = subprocess.Popen(
                [sys.executable, "-m", "forks", str(theirs.fileno())],
                env=os.environ | {"PYTHONPATH": path},
                pass_fds=(theirs.fileno(),),
                stdin=subprocess.DEVNULL,
                start_new_session=True,
            )
        self._control = ours

    def close(self) -> None:
        if self._control is not None:
            self._control.close()
            self._process.wait(60)
            self._control = None


forker = Forker()


def _become(request: Mapping[str, object], descriptors: Sequence[int]) -> None:
    """Turns this process into the program that was asked for."""
    os.setsid()
    # With whoever forks it ends too, so that an interrupted run of tests leaves nothing running.
    ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGKILL)
    for number, descriptor in enumerate(descriptors[:3]):
        os.dup2(descriptor, number)
    kept = _kept()
    for name in os.listdir("/proc/self/fd"):
        if int(name) > 2 and int(name) not in kept:
            with contextlib.suppress(OSError):
                os.close(int(name))
    os.chdir(str(request["cwd"]))
    os.environ.clear()
    os.environ.update(request["environment"])  # type: ignore[call-overload]
    sys.argv = [str(request["module"]), *request["arguments"]]  # type: ignore[misc]
    sys.stdin = os.fdopen(0, closefd=False)
    code: object = 0
    try:
        runpy.run_module(str(request["module"]), run_name="__main__", alter_sys=True)
    except SystemExit as ended:
        code = ended.code
    except BaseException:
        import traceback

        traceback.print_exc()
        code = 1
    if isinstance(code, str):
        print(code, file=sys.stderr)
        code = 1
    import atexit
    import threading

    threading._shutdown()  # type: ignore[attr-defined]
    atexit._run_exitfuncs()
    for stream in (sys.stdout, sys.stderr):
        with contextlib.suppress(OSError, ValueError):
            stream.flush()
    os._exit(int(code or 0))  # type: ignore[call-overload]


def _kept() -> set[int]:
    """The sandbox's fork server is shared by all: its children are as alike as what forks them."""
    from plumcrate.sandbox.forkserver import shared

    return {shared().start()}


def _serve(control: socket.socket) -> None:
    selector = selectors.DefaultSelector()
    selector.register(control, selectors.EVENT_READ)
    while True:
        for key, _ in selector.select():
            if key.fileobj is control:
                sent, descriptors, _, _ = socket.recv_fds(control, 16, 5)
                if not sent:
                    return
                with open(descriptors.pop(), "rb") as told:
                    told.seek(0)
                    request = json.loads(told.read())
                pid = os.fork()
                if pid == 0:
                    _become(request, descriptors)
                for descriptor in descriptors[:3]:
                    os.close(descriptor)
                asker, handle = socket.socket(fileno=descriptors[3]), os.pidfd_open(pid)
                socket.send_fds(asker, [str(pid).encode()], [handle])
                selector.register(handle, selectors.EVENT_READ, (pid, asker))
            else:
                pid, asker = key.data
                _, ended = os.waitpid(pid, 0)
                with contextlib.suppress(OSError):
                    asker.send(str(os.waitstatus_to_exitcode(ended)).encode())
                asker.close()
                selector.unregister(key.fd)
                os.close(key.fd)


def main() -> None:
    control = socket.socket(fileno=int(sys.argv[1]))
    import plumcrate.api.app
    import plumcrate.cli.commands
    import plumcrate.demo.site
    import plumcrate.operate.commands
    import plumcrate.worker.process

    for module in Path(plumcrate.cli.commands.__file__).parent.glob("[a-z]*.py"):
        __import__(f"plumcrate.cli.commands.{module.stem}")
    _kept()
    import gc

    gc.freeze()
    _serve(control)


if __name__ == "__main__":
    main()
