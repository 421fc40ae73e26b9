"""What runs in a child process of the sandbox, and the fork server from which children come:
``python -m plumcrate.sandbox.child CONTROL``. See :mod:`.forkserver` for what is said on that socket.

A child answers one request after the other. A request is a frame with a function's name and its
arguments, and a descriptor of the picture's bytes, or of a page's and one for what becomes of it; an answer
is a frame of plain JSON and one frame for each run of bytes that it speaks of. The parent never unpickles
what comes from here.
"""

from __future__ import annotations

import contextlib
import json
import mmap
import os
import pickle
import resource
import selectors
import socket
import sys
import threading
from collections.abc import Callable, Iterator, Sequence
from multiprocessing.connection import Connection
from typing import Any

from .forkserver import Terms

#: After so many seconds with nothing to do the server loads a little more of what children will need.
_MOMENT = 0.3
#: The niceness of compiling: pictures that are asked for meanwhile compile what they need themselves.
_COMPILING = 5

Answer = tuple[dict[str, Any], list[bytes]]


def _treat(data: bytes, recipe: Any, limits: Any, former: Any) -> Answer:
    """A treatment, or of a file that was treated before, what goes beside it."""
    from plumcrate.imaging import treat

    from .wire import as_answer

    return as_answer(treat(data, recipe, limits, former=former))


def _measure(data: bytes, recipe: Any, limits: Any) -> Answer:
    """Bytes before, of the file itself after, and of the lightest of file and copies; and the seconds."""
    from dataclasses import asdict

    from plumcrate.imaging.sample import measure

    return asdict(measure(data, recipe, limits)), []


def _trial(data: bytes, recipe: Any, limits: Any, x: float, y: float, pixels: int) -> Answer:
    """A treatment of a part of a picture; the part itself is the last of the bytes."""
    from plumcrate.imaging import treat
    from plumcrate.imaging.errors import LeftAlone
    from plumcrate.imaging.formats import FORMATS
    from plumcrate.imaging.identification import identify
    from plumcrate.imaging.pixels import refuse_large
    from plumcrate.imaging.sample import part_of

    from .wire import as_answer

    facts = identify(data)
    refuse_large(facts, limits)
    part = part_of(data, x, y, pixels)
    if part.data == data and facts.pixels > 2 * pixels and FORMATS[facts.format].pixels:
        raise LeftAlone(f"of a {facts.format.upper()} of this kind and size no part can be tried")
    head, blobs = as_answer(treat(part.data, recipe, limits))
    box = [part.left, part.top, part.width, part.height]
    return head | {"box": box}, [*blobs, part.data]


def _preview(data: bytes, width: int, limits: Any) -> Answer:
    """A small WebP of a picture."""
    from plumcrate.imaging.preview import preview

    return {}, [preview(data, width, limits)]


def _fingerprint(data: bytes, limits: Any) -> Answer:
    """What a picture shows, in few bytes."""
    from plumcrate.imaging.fingerprint import fingerprint

    width, height, shown = fingerprint(data, limits)
    return {"width": width, "height": height}, [shown]


def _perceptual_hash(data: bytes, limits: Any) -> Answer:
    """What a picture shows, so that near duplicates of it are known."""
    from plumcrate.imaging.near_duplicates.hashing import perceptual_hash

    found = perceptual_hash(data, limits)
    return {"width": found.width, "height": found.height}, [found.as_bytes()]


def _texts(data: bytes) -> Answer:
    """What a file's metadata says of its picture in words."""
    from plumcrate.imaging.metadata.texts import embedded_texts

    return {"texts": [list(one) for one in embedded_texts(data)]}, []


def _seen(data: bytes, original: bytes, width: int, height: int, limits: Any) -> Answer:
    """How what was served looks in its place, against its original."""
    from dataclasses import asdict

    from plumcrate.imaging.seen import seen

    return asdict(seen(data, original, width, height, limits)), []


#: The picture that was looked at last, with its steps that move or paint: looking on is then quick.
_looked_at: dict[str, Any] = {}


def _stood(data: bytes, touches: Any, limits: Any) -> Any:
    """Pixels with some touch-ups, kept until another picture is asked for."""
    import hashlib

    from plumcrate.imaging.shaping.touching import touched
    from plumcrate.imaging.shaping.view import upright

    content = hashlib.sha256(data).hexdigest()
    if _looked_at.get("content") != content:
        _looked_at.clear()
        _looked_at.update(content=content, pixels=upright(data, limits))
    if not touches:
        return _looked_at["pixels"]
    if _looked_at.get("touches") != touches:
        _looked_at.pop("touched", None)  # before more memory is taken
        _looked_at.update(touched=touched(_looked_at["pixels"], touches), touches=touches)
    return _looked_at["touched"]


def _matters(data: bytes, touches: Any, wanted: Any, limits: Any) -> Answer:
    """The focal point of a picture with touch-ups, and the box of each wanted size in it."""
    from plumcrate.imaging.shapes import touches_of
    from plumcrate.imaging.shaping.view import matters

    matter, boxes = matters(_stood(data, touches_of(touches), limits), wanted)
    return {"focus": list(matter.focus), "boxes": [list(box) for box in boxes]}, []


def _view(data: bytes, touches: Any, area: Any, limits: Any) -> Answer:
    """A part of a picture with touch-ups at its own size, or the whole of it."""
    from plumcrate.imaging.shapes import touches_of
    from plumcrate.imaging.shaping.view import part, split, whole

    first, local = split(touches_of(touches))
    pixels = _stood(data, first, limits)
    left, top, width, height = area
    if left is None:
        return {"size": list(pixels.size)}, [whole(pixels, local, width, height)]
    return {"size": list(pixels.size)}, [part(pixels, local, left, top, width, height)]


def _watermark(data: bytes) -> Answer:
    """Width and height of a watermark's file."""
    from plumcrate.imaging.shaping.watermarking import check_watermark

    return {"size": list(check_watermark(data))}, []


def _letters(words: bytes) -> Answer:
    """The letters of a watermark's words for which its fonts have no shape."""
    from plumcrate.imaging.shaping.watermarking import missing_letters

    return {"missing": missing_letters(words.decode())}, []


def _sheet(content: bytes, pictures: dict[int, bytes]) -> Answer:
    """A report, sent as JSON, drawn as PDF."""
    from plumcrate.contract.reports import SavingsReport
    from plumcrate.reports.sheet import sheet

    return {}, [sheet(SavingsReport.model_validate_json(content), pictures)]


def _header(data: bytes) -> Answer:
    """The format of a file, by its header."""
    from plumcrate.imaging.identification import identify

    return {"format": identify(data).format}, []


#: Of the pictures that a page names, so many are looked up.
_MOST_PATHS = 20_000
_PIECE = 1 << 18


def _page_paths(data: bytes, address: str, charset: str | None, settings: str) -> Answer:
    """The paths of the library's pictures that a page names."""
    from plumcrate.contract.delivery import Delivery
    from plumcrate.markup.page import PageStream

    paths: dict[str, None] = {}

    def gather(named: Sequence[str]) -> dict[str, Any]:
        paths.update(dict.fromkeys(named[: _MOST_PATHS - len(paths)]))
        return {}

    stream = PageStream(address, Delivery.model_validate_json(settings), gather, charset)
    for at in range(0, len(data), _PIECE):
        stream.feed(data[at : at + _PIECE])
    stream.close()
    return {"paths": list(paths)}, []


def _page(
    data: bytes, into: int, address: str, charset: str | None, settings: str, files: list[str]
) -> Answer:
    """A page, rewritten into a file."""
    from plumcrate.contract.delivery import Delivery, PageFile
    from plumcrate.markup.page import PageStream

    known = {file.path: file for file in map(PageFile.model_validate_json, files)}
    stream = PageStream(address, Delivery.model_validate_json(settings), lambda _: known, charset)
    with open(into, "wb", closefd=False) as file:
        for at in range(0, len(data), _PIECE):
            file.write(stream.feed(data[at : at + _PIECE]))
        file.write(stream.close())
    fault = stream.fault
    return {"fault": None if fault is None else f"{type(fault).__name__}: {fault}"[:300]}, []


FUNCTIONS: dict[str, Callable[..., Answer]] = {
    "treat": _treat,
    "measure": _measure,
    "trial": _trial,
    "preview": _preview,
    "fingerprint": _fingerprint,
    "perceptual_hash": _perceptual_hash,
    "texts": _texts,
    "seen": _seen,
    "header": _header,
    "matters": _matters,
    "view": _view,
    "watermark": _watermark,
    "letters": _letters,
    "sheet": _sheet,
    "page_paths": _page_paths,
    "page": _page,
}


def _prepare() -> None:
    """Loads what decoding needs, so that little has to be opened once the process is shut in."""
    from PIL import Image

    import plumcrate.imaging.preview
    import plumcrate.imaging.sample
    import plumcrate.imaging.seen
    import plumcrate.imaging.shaping.view
    import plumcrate.imaging.shaping.watermarking
    import plumcrate.markup.page
    import plumcrate.sandbox.wire
    from plumcrate.imaging.version import core_version

    Image.init()
    core_version()  # of the files that were loaded just now: a child may read none
    plumcrate.imaging.shaping.watermarking.load_fonts()


def _save_no_kernels() -> None:
    """Compiled code is read from the cache and never written there by a child."""
    from numba.core import caching

    def no_saving(*_: Any) -> None:
        return None

    setattr(caching.FunctionCache, "save_overload", no_saving)  # noqa: B010 - a method is replaced


def _answer(connection: Connection, request: bytes, data: bytes, into: list[int]) -> None:
    from plumcrate.imaging import ImagingError

    name, arguments = pickle.loads(request)
    try:
        head, blobs = FUNCTIONS[name](data, *into, *arguments)
    except ImagingError as error:
        head, blobs = {"error": error.code, "kind": "imaging", "message": str(error)}, []
    except MemoryError:
        head, blobs = {"error": "out-of-memory", "kind": "memory"}, []
    except Exception as error:  # a fault of ours: one picture, one plain line, with the kind for a report
        said = f"{type(error).__name__}: {error}"[:500]
        head, blobs = {"error": "internal-error", "kind": "internal", "message": said}, []
    connection.send_bytes(json.dumps(head | {"blobs": [len(blob) for blob in blobs]}).encode())
    for blob in blobs:
        connection.send_bytes(blob)


def _bytes_of(descriptor: int) -> bytes:
    try:
        if os.fstat(descriptor).st_size == 0:
            return b""
        with mmap.mmap(descriptor, 0, access=mmap.ACCESS_READ) as mapped:
            return bytes(mapped)
    finally:
        os.close(descriptor)


def _end_with(watch: int) -> None:
    """Ends when the parent does, also in the middle of a picture."""
    os.read(watch, 1)
    os._exit(0)


def _lever() -> int | None:
    """Through what the niceness of this session is set; None where the system has no such thing."""
    try:
        return os.open("/proc/self/autogroup", os.O_WRONLY)
    except OSError:
        return None


def live(terms: Terms, link: int, watch: int) -> None:
    """A child's life: it is shut in, hands over the lever of its session, and serves requests until the
    parent closes the link."""
    os.setsid()
    _save_no_kernels()
    os.nice(terms.nice)
    carrier = socket.socket(fileno=link)
    lever = _lever()
    socket.send_fds(carrier, [b"L"], [] if lever is None else [lever])
    if lever is not None:
        os.close(lever)
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    resource.setrlimit(resource.RLIMIT_AS, (terms.memory_mb << 20, terms.memory_mb << 20))
    from plumcrate.imaging.version import core_version

    holds: dict[str, bool] = {}
    if terms.contained:
        from .containment import shut_in

        holds = shut_in()
    threading.Thread(target=_end_with, args=(watch,), daemon=True).start()
    connection = Connection(os.dup(link))
    connection.send_bytes(json.dumps({"holds": holds, "core": core_version()}).encode())
    while True:
        opening, descriptors, _, _ = socket.recv_fds(carrier, 1, 2)
        if not opening:
            return
        given, *into = descriptors
        request = connection.recv_bytes()
        data = _bytes_of(given)
        _answer(connection, request, data, into)
        for descriptor in into:
            os.close(descriptor)
        del data


class Forks:
    """The server's side: forks a child for each request, and tells how each has ended."""

    def __init__(self, control: socket.socket) -> None:
        self._control = control
        self._selector = selectors.DefaultSelector()
        self._selector.register(control, selectors.EVENT_READ)

    def serve(self, idle: Iterator[None]) -> None:
        """Until nobody holds the other end. While there is nothing to do, ``idle`` is taken a step on."""
        waits = True
        while True:
            ready = self._selector.select(_MOMENT if waits else None)
            if not ready:
                try:
                    waits = next(idle, "done") != "done"
                except Exception:  # children load for themselves what could not be loaded here
                    waits = False
            for key, _ in ready:
                if key.fileobj is self._control:
                    if not self._fork():
                        return
                else:
                    self._reap(key.fd, *key.data)

    def _fork(self) -> bool:
        request, descriptors, _, _ = socket.recv_fds(self._control, 4096, 3)
        if not request:
            return False
        link, watch, status = descriptors
        pid = os.fork()
        if pid == 0:
            _close_all_but(link, watch)
            code = 1
            try:
                live(Terms(**json.loads(request)), link, watch)
                code = 0
            finally:
                os._exit(code)
        os.close(link)
        os.close(watch)
        asker = socket.socket(fileno=status)
        handle = os.pidfd_open(pid)
        with contextlib.suppress(OSError):  # whoever asked is gone; then so is the child, soon
            socket.send_fds(asker, [str(pid).encode()], [handle])
        self._selector.register(handle, selectors.EVENT_READ, (pid, asker))
        return True

    def _reap(self, handle: int, pid: int, asker: socket.socket) -> None:
        _, ended = os.waitpid(pid, 0)
        with contextlib.suppress(OSError):
            asker.send(str(os.waitstatus_to_exitcode(ended)).encode())
        asker.close()
        self._selector.unregister(handle)
        os.close(handle)


def _close_all_but(*kept: int) -> None:
    """Closes what was inherited: a child has its link, its watch and nothing else."""
    for name in os.listdir("/proc/self/fd"):
        number = int(name)
        if number > 2 and number not in kept:
            with contextlib.suppress(OSError):
                os.close(number)


def main() -> None:
    """A fork server, until nobody holds its control socket."""
    _prepare()
    Forks(socket.socket(fileno=int(sys.argv[1]))).serve(_load_kernels())


def _load_kernels() -> Iterator[None]:
    """Loads the kernels, a few a step. What has to be compiled first is compiled in a process of its own."""
    from plumcrate.imaging.warm import warm

    from .kernels import compile_all, compiled

    if not compiled():
        compiler = os.fork()
        if compiler == 0:
            try:
                os.nice(_COMPILING)
                compile_all()
            finally:
                os._exit(0)
        while os.waitpid(compiler, os.WNOHANG) == (0, 0):
            yield
    yield from warm()


if __name__ == "__main__":
    main()
