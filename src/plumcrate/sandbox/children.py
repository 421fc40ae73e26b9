"""Child processes in which strangers' files are decoded, shut in and limited in time and memory.

A child that crashes, hangs or eats memory costs one picture and gives a plain reason. Its time is the
processor's, so that a busy machine does not make a healthy picture fail; by the clock there is only a far
backstop, and what meets it is tried again.
"""

from __future__ import annotations

import contextlib
import json
import os
import pickle
import queue
import resource
import signal
import socket
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass
from multiprocessing.connection import Connection
from pathlib import Path
from typing import IO, TYPE_CHECKING, Any

from plumcrate.imaging.outcome import Measured, Part, Seen
from plumcrate.imaging.recipe import SAMPLE, Limits
from plumcrate.imaging.version import core_version

from .forkserver import ForkServer, Terms, shared
from .pace import Pace, Urgency, pull
from .wire import Nonsense, as_error, as_treatment

if TYPE_CHECKING:
    from plumcrate.contract.delivery import Delivery, PageFile
    from plumcrate.imaging import Recipe
    from plumcrate.imaging.outcome import Former, Treatment

    from .rewriting import PageSource

#: A child is replaced after so many pictures.
_MOST_TASKS = 200
#: By the clock a picture may take so many times its processor time, and so many seconds more.
_PATIENCE, _BACKSTOP = 20.0, 600.0
_MOST_HEAD, _MOST_BLOB = 4_000_000, 2_000_000_000
#: Of processor, for a page.
_SECONDS_PER_MB = 0.5
_TICKS = os.sysconf("SC_CLK_TCK")


class SandboxError(Exception):
    """The child did not come back with a result. ``code`` is stable, the message plain."""

    def __init__(self, code: str, message: str) -> None:
        super().__init__(message)
        self.code = code


class _Child:
    """One process and the link to it."""

    def __init__(self, server: ForkServer, terms: Terms) -> None:
        ours, theirs = socket.socketpair()
        watch, held = os.pipe()
        try:
            self.process = server.fork(terms, theirs.fileno(), watch)
        except OSError as error:
            ours.close()
            os.close(held)
            raise SandboxError(
                "machine-busy", f"no child process could be started ({error}); it was left as it is"
            ) from None
        finally:
            theirs.close()
            os.close(watch)
        self.socket, self._held = ours, held
        self.connection = Connection(os.dup(ours.fileno()))
        self.tasks = 0
        self.holds: dict[str, bool] | None = None
        self.stopped: Callable[[], bool] = lambda: False
        self._lever: int | None = None

    def hear_lever(self) -> None:
        """The child's first word, with the lever of its session where there is one."""
        _, levers, _, _ = socket.recv_fds(self.socket, 1, 1)
        self._lever = levers[0] if levers else None

    def be(self, niceness: int) -> None:
        """Makes the child's session so nice, where the system can."""
        if self._lever is not None:
            pull(self._lever, niceness)

    def processor_seconds(self) -> float:
        """What the process has used so far."""
        try:
            fields = Path(f"/proc/{self.process.pid}/stat").read_text().rpartition(")")[2].split()
        except OSError:
            return 0.0
        return (int(fields[11]) + int(fields[12])) / _TICKS

    def allow(self, seconds: float) -> None:
        """Lets the process use so many seconds of processor from now on; then the system ends it."""
        limit = int(self.processor_seconds() + seconds) + 1
        with contextlib.suppress(OSError):
            resource.prlimit(self.process.pid, resource.RLIMIT_CPU, (limit, resource.RLIM_INFINITY))

    def send(self, request: bytes, descriptors: list[int]) -> None:
        socket.send_fds(self.socket, [b"P"], descriptors)
        self.connection.send_bytes(request)

    def end(self) -> int | None:
        """Ends the process; its exit code, negative for a signal."""
        for close in (self.connection.close, self.socket.close, lambda: os.close(self._held)):
            with contextlib.suppress(OSError):
                close()
        self._held = -1
        if self._lever is not None:
            os.close(self._lever)
            self._lever = None
        if self.process.poll() is None:
            self.process.kill()
        return self.process.wait()


class Sandbox:
    """A pool of children. A picture may use 60 s of processor and ``seconds_per_megapixel`` more.

    ``limits``: what a picture may have. ``urgency``: who waits for it; children of bulk work get at least
    ``floor`` processors together while they work, see :mod:`.pace`. ``contained`` is only switched off to
    measure what it costs; ``server`` is another one only in tests of the walls."""

    def __init__(
        self,
        children: int,
        memory_mb: int,
        seconds_per_megapixel: float,
        *,
        limits: Limits | None = None,
        urgency: Urgency = Urgency.BULK,
        floor: float = 0.1,
        contained: bool = True,
        backstop: float = _BACKSTOP,
        server: ForkServer | None = None,
    ) -> None:
        self._server = server or shared()
        self._seconds_per_megapixel = seconds_per_megapixel
        self._memory_mb = memory_mb
        self._terms = Terms(urgency.nice, memory_mb, contained)
        self._urgency = urgency
        self._limits = limits or Limits()
        self._backstop = backstop
        # Of the program that runs here, before somebody replaces its files.
        self._core = core_version()
        self._closed = False
        self._free: queue.LifoQueue[_Child | None] = queue.LifoQueue()
        for _ in range(children):
            self._free.put(None)
        self._lock = threading.Lock()
        self._alive: set[_Child] = set()
        self._busy: set[_Child] = set()
        self._ended_used = 0.0
        self.pace = Pace(floor)
        #: What shuts the children in on this machine, once one has started.
        self.holds: dict[str, bool] | None = None

    def treat(
        self, data: bytes, recipe: Recipe, megapixels: float, former: Former | None = None
    ) -> Treatment:
        """:func:`plumcrate.imaging.treat` in a child. Raises ImagingError or SandboxError."""
        seconds = 60 + self._seconds_per_megapixel * megapixels
        return as_treatment(*self._call(seconds, data, "treat", recipe, self._limits, former))

    def measure(self, data: bytes, recipe: Recipe, megapixels: float) -> Measured:
        """What a treatment would save and how long it would take, from a part of a large picture.

        Raises ImagingError or SandboxError.
        """
        seconds = 60 + self._seconds_per_megapixel * min(megapixels, 2 * SAMPLE / 1e6)
        head, _ = self._call(seconds, data, "measure", recipe, self._limits)
        before, after, lightest = (int(head[name]) for name in ("before", "after", "lightest"))
        return Measured(before, after, lightest, float(head["seconds"]))

    def trial(
        self, data: bytes, recipe: Recipe, point: tuple[float, float], pixels: int
    ) -> tuple[Treatment, Part]:
        """A treatment of the part of a picture around a point, and the part. Raises ImagingError or
        SandboxError."""
        seconds = 60 + self._seconds_per_megapixel * 2 * pixels / 1e6
        head, blobs = self._call(seconds, data, "trial", recipe, self._limits, *point, pixels)
        left, top, width, height = (int(side) for side in head["box"])
        return as_treatment(head, blobs[:-1]), Part(blobs[-1], left, top, width, height)

    def preview(self, data: bytes, width: int) -> bytes:
        """A small WebP of a picture. Raises ImagingError or SandboxError."""
        _, blobs = self._call(30, data, "preview", width, self._limits)
        return blobs[0]

    def fingerprint(self, data: bytes) -> tuple[int, int, bytes]:
        """:func:`plumcrate.imaging.fingerprint.fingerprint` in a child. Raises ImagingError, SandboxError."""
        head, blobs = self._call(30, data, "fingerprint", self._limits)
        return int(head["width"]), int(head["height"]), blobs[0]

    def perceptual_hash(self, data: bytes) -> tuple[int, int, bytes]:
        """Width, height and :meth:`PerceptualHash.as_bytes`, found in a child. Raises ImagingError,
        SandboxError."""
        from plumcrate.imaging.near_duplicates.perceptual import is_hash

        head, blobs = self._call(30, data, "perceptual_hash", self._limits)
        width, height = int(head["width"]), int(head["height"])
        if not (0 < width < 1 << 31 and 0 < height < 1 << 31 and is_hash(blobs[0])):
            raise SandboxError("child-died", "its child process answered nonsense; it was left as it is")
        return width, height, blobs[0]

    def texts(self, data: bytes) -> list[tuple[str, str]]:
        """:func:`plumcrate.imaging.metadata.texts.embedded_texts` in a child. Raises SandboxError."""
        head, _ = self._call(30, data, "texts")
        return [(str(source), str(text)) for source, text in head["texts"]]

    def seen(self, served: bytes, original: bytes, size: tuple[int, int]) -> Seen:
        """:func:`plumcrate.imaging.seen.seen` in a child. Raises ImagingError or SandboxError."""
        head, _ = self._call(120, served, "seen", original, *size, self._limits)
        return Seen(*(float(head[name]) for name in ("score", "worst", "left", "top")))

    def matters(
        self, data: bytes, touches: list[dict[str, Any]], wanted: list[tuple[int, int]], megapixels: float
    ) -> tuple[tuple[float, float], dict[tuple[int, int], tuple[int, int, int, int]]]:
        """The focal point of a picture after touch-ups, and the box of each size to be cut out of it.

        Raises ImagingError or SandboxError.
        """
        seconds = 30 + self._seconds_per_megapixel * megapixels
        head, _ = self._call(seconds, data, "matters", touches, wanted, self._limits)
        x, y = (float(value) for value in head["focus"])
        boxes = [tuple(int(side) for side in box) for box in head["boxes"]]
        return (x, y), {size: (b[0], b[1], b[2], b[3]) for size, b in zip(wanted, boxes, strict=True)}

    def view(
        self,
        data: bytes,
        touches: list[dict[str, Any]],
        area: tuple[float | None, float | None, int, int],
        megapixels: float,
    ) -> tuple[bytes, tuple[int, int]]:
        """A WebP of a part of a picture with touch-ups: left and top in parts of it, width and height in
        pixels; of the whole where left is None. And the width and height of the whole.

        Raises ImagingError or SandboxError.
        """
        seconds = 30 + self._seconds_per_megapixel * megapixels
        head, blobs = self._call(seconds, data, "view", touches, area, self._limits)
        return blobs[0], (int(head["size"][0]), int(head["size"][1]))

    def check_watermark(self, data: bytes) -> tuple[int, int]:
        """Width and height of a watermark's file. Raises ImagingError, where it cannot be a watermark, or
        SandboxError."""
        head, _ = self._call(30, data, "watermark")
        return int(head["size"][0]), int(head["size"][1])

    def missing_letters(self, words: str) -> str:
        """The letters of a watermark's words for which its fonts have no shape. Raises SandboxError."""
        head, _ = self._call(10, words.encode(), "letters")
        return str(head["missing"])

    def sheet(self, content: str, pictures: dict[int, bytes]) -> bytes:
        """A report as PDF. ``content`` is a :class:`~plumcrate.contract.reports.Report` as JSON; ``pictures``
        are small, by the number of their file. Raises SandboxError."""
        return self._call(60, content.encode(), "sheet", pictures)[1][0]

    def page_paths(
        self, page: IO[bytes], site: PageSource, settings: Delivery, stopped: Callable[[], bool]
    ) -> list[str]:
        """The paths of the library's pictures that a page names. Raises SandboxError."""
        head, _ = self._of_page("page_paths", page, None, stopped, site, settings.model_dump_json())
        return [str(path) for path in head["paths"]]

    def page(
        self,
        page: IO[bytes],
        into: IO[bytes],
        site: PageSource,
        settings: Delivery,
        files: list[PageFile],
        stopped: Callable[[], bool],
    ) -> str | None:
        """Writes a page with what its pictures lack into a file; what went wrong. Raises SandboxError."""
        known = [file.model_dump_json() for file in files]
        head, _ = self._of_page("page", page, into, stopped, site, settings.model_dump_json(), known)
        return str(head["fault"]) if head["fault"] else None

    def _of_page(
        self,
        name: str,
        page: IO[bytes],
        into: IO[bytes] | None,
        stopped: Callable[[], bool],
        site: PageSource,
        *more: Any,
    ) -> tuple[dict[str, Any], list[bytes]]:
        """By the page's file: a page is as long as its author likes."""
        page.flush()
        seconds = 10 + _SECONDS_PER_MB * os.fstat(page.fileno()).st_size / 1e6
        descriptors = [page.fileno(), *([into.fileno()] if into is not None else [])]
        return self._call(
            seconds, b"", name, site.address, site.charset, *more, descriptors=descriptors, stopped=stopped
        )

    def format_of(self, data: bytes) -> str:
        """The format of a file, by its header. Raises ImagingError or SandboxError."""
        head, _ = self._call(10, data, "header")
        return str(head["format"])

    def ready(self) -> dict[str, bool]:
        """Starts a child if none has; what shuts children in here. Raises SandboxError."""
        if self.holds is None:
            with contextlib.suppress(Exception):
                self.format_of(b"GIF89a")
        return self.holds or {}

    # -- calls ---------------------------------------------------------------------------------

    def _call(
        self,
        seconds: float,
        data: bytes,
        name: str,
        *arguments: Any,
        descriptors: list[int] | None = None,
        stopped: Callable[[], bool] = lambda: False,
    ) -> tuple[dict[str, Any], list[bytes]]:
        """``descriptors``: of files in place of ``data``, the second one to be written; ``stopped``: whether
        nobody wants the answer any more."""
        child = self._take()
        began = time.monotonic()
        with self._lock:
            self._busy.add(child)
        try:
            child.stopped = stopped
            head, blobs = self._ask(child, seconds, data, name, arguments, descriptors)
            child.tasks += 1
        except BaseException as error:
            self._forget(child)
            code = child.end()
            self._free.put(None)
            if self._closed:
                raise SandboxError("stopped", "the worker was stopping") from None
            if isinstance(error, EOFError | OSError):
                raise self._ended(code, seconds, time.monotonic() - began) from None
            raise
        self._give_back(child)
        if head.get("error"):
            raise self._explained(head)
        return head, blobs

    def _take(self) -> _Child:
        while True:
            if self._closed:
                raise SandboxError("stopped", "the worker was stopping")
            with contextlib.suppress(queue.Empty):
                free = self._free.get(timeout=0.5)
                try:
                    return self._started(free)
                except SandboxError:
                    self._free.put(None)
                    raise

    def _started(self, child: _Child | None) -> _Child:
        if child is not None and child.process.poll() is not None:
            self._forget(child)
            child.end()
            child = None
        if child is None:
            child = _Child(self._server, self._terms)
            with self._lock:
                self._alive.add(child)
        return child

    def _give_back(self, child: _Child) -> None:
        with self._lock:
            self._busy.discard(child)
        if child.tasks >= _MOST_TASKS:
            self._forget(child)
            child.end()
            self._free.put(None)
        else:
            self._free.put(child)

    def _forget(self, child: _Child) -> None:
        used = child.processor_seconds()
        with self._lock:
            self._alive.discard(child)
            self._busy.discard(child)
            self._ended_used += used

    def keep_pace(self) -> bool:
        """Sets how nice the children are, by what they got of late; whether any is at work. To be called
        every second or so."""
        with self._lock:
            alive, busy = list(self._alive), len(self._busy)
            used = self._ended_used
        if self._urgency is not Urgency.BULK:
            return False
        niceness = self.pace.look(used + sum(child.processor_seconds() for child in alive), busy)
        for child in alive:
            child.be(niceness)
        return busy > 0

    def _ask(
        self,
        child: _Child,
        seconds: float,
        data: bytes,
        name: str,
        arguments: tuple[Any, ...],
        descriptors: list[int] | None,
    ) -> tuple[dict[str, Any], list[bytes]]:
        deadline = time.monotonic() + seconds * _PATIENCE + self._backstop
        child.allow(seconds + (30 if child.holds is None else 0))
        if child.holds is None:
            self._wait(child, deadline)
            child.hear_lever()
            child.be(self.pace.niceness if self._urgency is Urgency.BULK else self._urgency.session)
            hello = json.loads(self._frame(child, deadline, _MOST_HEAD))
            if hello["core"] != self._core:
                raise SandboxError(
                    "other-version",
                    "the program's files were replaced while it ran: restart the service and its workers",
                )
            self.holds = child.holds = dict(hello["holds"])
        request = pickle.dumps((name, arguments))
        if descriptors is not None:
            child.send(request, descriptors)
        else:
            with open(os.memfd_create("picture", os.MFD_CLOEXEC), "wb") as file:
                file.write(data)
                file.flush()
                child.send(request, [file.fileno()])
        head = json.loads(self._frame(child, deadline, _MOST_HEAD))
        if not isinstance(head, dict) or not isinstance(head.get("blobs"), list):
            raise SandboxError("child-died", "its child process answered nonsense; it was left as it is")
        return head, [self._frame(child, deadline, _MOST_BLOB) for _ in head["blobs"][:16]]

    def _frame(self, child: _Child, deadline: float, most: int) -> bytes:
        self._wait(child, deadline)
        return child.connection.recv_bytes(most)

    def _wait(self, child: _Child, deadline: float) -> None:
        while not child.connection.poll(0.25):
            if self._closed:
                raise EOFError
            if child.stopped():
                raise SandboxError("stopped", "nobody waited for it any more")
            if time.monotonic() > deadline:
                raise SandboxError(
                    "machine-busy", "the machine gave it hardly any time for long; it was left as it is"
                )

    # -- plain words ---------------------------------------------------------------------------

    def _explained(self, head: dict[str, Any]) -> Exception:
        left = "it was left as it is"
        if head.get("kind") == "imaging":
            return as_error(head)
        if head.get("kind") == "memory":
            return SandboxError(
                "out-of-memory", f"it needs more than the {self._memory_mb} MB a child may use; {left}"
            )
        said = str(head.get("message", ""))[:500]
        return SandboxError("internal-error", f"an internal error ({said}); {left}")

    def _ended(self, code: int | None, seconds: float, elapsed: float) -> SandboxError:
        """What became of the child within ``elapsed`` seconds of the clock, in plain words."""
        left = "it was left as it is"
        if code == -signal.SIGXCPU and elapsed * (os.cpu_count() or 1) < seconds:
            # All processors together do not have so much: a machine that was halted charged it for the halt.
            return SandboxError("machine-busy", f"the machine stood still while it was treated; {left}")
        if code == -signal.SIGXCPU:
            return SandboxError(
                "took-too-long", f"it took longer than {seconds:.0f} s of processor time; {left}"
            )
        return SandboxError("child-died", f"decoding it ended the child process (code {code}); {left}")

    def close(self) -> None:
        """Ends every child at once; calls that wait for one raise ``stopped``."""
        self._closed = True
        with self._lock:
            alive, self._alive = list(self._alive), set()
        for child in alive:
            with contextlib.suppress(OSError):
                child.process.kill()
        for child in alive:
            child.process.wait()


@dataclass(frozen=True, slots=True)
class Sandboxes:
    """A worker's pools, one for each urgency, so that nobody waits for a child that does less urgent work."""

    bulk: Sandbox
    arrivals: Sandbox
    person: Sandbox

    def close(self) -> None:
        for sandbox in (self.bulk, self.arrivals, self.person):
            sandbox.close()


__all__ = ["Nonsense", "Sandbox", "SandboxError", "Sandboxes"]
