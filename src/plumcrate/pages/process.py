"""A browser in a process of its own, with limits: started, asked, and ended with all that it began."""

from __future__ import annotations

import contextlib
import json
import os
import re
import shutil
import socket
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass, field
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

from .faults import Fault
from .processes import below, end_all, memory_of

#: Where Debian, and others, put it.
_PLACES = ("/usr/bin/chromium", "/usr/bin/chromium-browser", "/usr/bin/google-chrome")
_MOST_FRAME = 40_000_000
_LONGEST_PLACE = 36
_KEPT = ("LD_LIBRARY_PATH",)
_LONE = re.compile(rb"\\ud[89ab][0-9a-f]{2}(?!\\ud[c-f])|(?<!\\ud[89ab][0-9a-f]{2})\\ud[c-f][0-9a-f]{2}")
#: How often the memory of a browser is looked at, in seconds.
_LOOK = 0.5

#: Answers what a browser asks for: a plain question to a plain answer.
Answerer = Callable[[dict[str, Any]], dict[str, Any] | None]


def _short_folder() -> str | None:
    """Where the browser's own folder is made: the usual place, or /tmp where that lies so far down that the
    browser's sockets in it could have no name (``sun_path`` of unix(7) holds 108 bytes)."""
    return None if len(os.fsencode(tempfile.gettempdir())) <= _LONGEST_PLACE else "/tmp"


def find_browser(place: str | None = None) -> str | None:
    """Where Chromium is; None where there is none."""
    if place is not None:
        return place if os.access(place, os.X_OK) else None
    found = (shutil.which("chromium"), shutil.which("chromium-browser"), *_PLACES)
    return next((each for each in found if each and os.access(each, os.X_OK)), None)


@dataclass(frozen=True, slots=True)
class Walls:
    """What a browser may do. ``allowed``: see :class:`~.guard.Guard`."""

    allowed: Sequence[str] = ()
    most_bytes: int = 200_000_000
    memory: int = 2_500_000_000
    browser: str | None = None


@dataclass
class Weigher:
    """One process. ``scratch`` is where its files are, until it is closed."""

    scratch: Path
    walls: Walls
    _process: subprocess.Popen[bytes]
    _connection: Connection
    _held: int
    _lock: threading.Lock = field(default_factory=threading.Lock)

    def call(
        self,
        order: dict[str, Any],
        seconds: float,
        *,
        answerer: Answerer | None = None,
        stopped: Callable[[], bool] = lambda: False,
        at_a_time: int = 2,
    ) -> dict[str, Any]:
        """What comes of an order. Raises :class:`Fault`; whatever ``answerer`` raises is raised."""
        self._send(order)
        deadline, look_at = time.monotonic() + seconds, 0.0
        failures: list[BaseException] = []
        with ThreadPoolExecutor(at_a_time, thread_name_prefix="predicting") as pool:
            while True:
                if failures:
                    self.end()
                    raise failures[0]
                if time.monotonic() > deadline:
                    self.end()
                    raise Fault("too-long", "the page took too long and was given up")
                if time.monotonic() > look_at:
                    if stopped():
                        self.end()
                        raise Fault("stopped", "somebody stopped it")
                    self._look_at_memory()
                    look_at = time.monotonic() + _LOOK
                frame = self._heard()
                if frame is None:
                    continue
                if "done" in frame:
                    answer: dict[str, Any] = frame["done"]
                    if "fault" in answer:
                        raise Fault(str(answer["fault"]), str(answer["text"])[:1_000])
                    return answer
                pool.submit(self._answer, frame, answerer, failures)

    def _answer(
        self, frame: dict[str, Any], answerer: Answerer | None, failures: list[BaseException]
    ) -> None:
        try:
            answer = answerer(frame) if answerer is not None else None
        except BaseException as error:
            failures.append(error)
            return
        with contextlib.suppress(OSError):
            self._send({"reply": frame["number"], "answer": answer})

    def _heard(self) -> dict[str, Any] | None:
        try:
            if not self._connection.poll(0.2):
                return None
            # Text from pages may hold what no record can: NUL, and halves of surrogate pairs.
            said = self._connection.recv_bytes(_MOST_FRAME).replace(b"\\u0000", b"\\ufffd")
            frame = json.loads(_LONE.sub(b"\\\\ufffd", said))
        except (EOFError, OSError, ValueError):
            self.end()
            raise Fault("crashed", "the browser's process ended; the page was given up") from None
        if not isinstance(frame, dict):
            raise Fault("crashed", "the browser's process sent an invalid answer")
        return frame

    def _send(self, frame: dict[str, Any]) -> None:
        with self._lock:
            try:
                self._connection.send_bytes(json.dumps(frame).encode())
            except OSError:
                raise Fault("crashed", "the browser's process has ended") from None

    def _look_at_memory(self) -> None:
        used = memory_of(below(self._process.pid) | {self._process.pid})
        if used > self.walls.memory:
            self.end()
            raise Fault(
                "memory",
                f"the page used more than the {self.walls.memory / 1e9:.1f} GB that a browser may have",
            )

    def file(self, name: str) -> bytes:
        """A file of the scratch folder by the name that the process gave. Raises :class:`Fault`."""
        place = self.scratch / Path(name).name
        try:
            return place.read_bytes()
        except OSError:
            raise Fault("crashed", "a file of the browser's process is not there") from None

    def end(self) -> None:
        """Ends the process, the browser, and whatever it began."""
        end_all(self._process.pid, str(self.scratch))
        with contextlib.suppress(OSError):
            self._process.kill()
        self._process.wait()
        end_all(self._process.pid, str(self.scratch))

    def close(self) -> None:
        self.end()
        self._connection.close()
        if self._held >= 0:
            os.close(self._held)
            self._held = -1


@contextmanager
def weigher(walls: Walls) -> Iterator[Weigher]:
    """A process that weighs; it has ended, with all that it began, when this is left. Raises
    :class:`Fault`."""
    try:
        scratch = Path(tempfile.mkdtemp(prefix="plumcrate-page-", dir=_short_folder()))
    except OSError as error:
        raise _no_place(error) from None
    try:
        try:
            one = _started(scratch, walls)
        except OSError as error:
            raise _no_place(error) from None
        try:
            yield one
        finally:
            one.close()
    finally:
        shutil.rmtree(scratch, ignore_errors=True)


def _no_place(error: OSError) -> Fault:
    return Fault("no-place", f"the browser found no room to work on this machine ({error.strerror})")


def _started(scratch: Path, walls: Walls) -> Weigher:
    ours, theirs = socket.socketpair()
    watch, held = os.pipe()
    kept = {name: os.environ[name] for name in _KEPT if name in os.environ}
    path = os.pathsep.join(part for part in sys.path if part)
    process = subprocess.Popen(
        [sys.executable, "-m", "plumcrate.pages.child", str(theirs.fileno()), str(watch), str(scratch)],
        env={
            "LANG": "C.UTF-8",
            "PATH": "/usr/bin:/bin",
            "HOME": str(scratch),
            "TMPDIR": str(scratch),
            "PLUMCRATE_PAGE": str(scratch),
            "PYTHONPATH": path,
        }
        | kept,
        cwd="/",
        pass_fds=(theirs.fileno(), watch),
        stdin=subprocess.DEVNULL,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
        start_new_session=True,
    )
    theirs.close()
    os.close(watch)
    one = Weigher(scratch, walls, process, Connection(ours.detach()), held)
    one._send(
        {
            "allowed": list(walls.allowed),
            "most_bytes": walls.most_bytes,
            "browser": find_browser(walls.browser),
        }
    )
    return one
