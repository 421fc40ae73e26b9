"""What runs in a child process of the sandbox: ``python -m plumcrate.work.child SOCKET WATCH``.

The child answers one request after the other. A request is a frame with a function's name and its
arguments, and a descriptor of the picture's bytes; an answer is a frame of plain JSON and one frame for each
run of bytes that it speaks of. The parent never unpickles what comes from here.
"""

from __future__ import annotations

import contextlib
import json
import mmap
import os
import pickle
import resource
import socket
import sys
import threading
import time
from collections.abc import Callable
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

#: From this niceness on a child only takes time that nobody else wants.
_IDLE = 19
#: How often it is tried to say so to the system.
_TRIES = 20

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


def _preview(data: bytes, width: int, limits: Any) -> Answer:
    """A small WebP of a picture."""
    from plumcrate.imaging.preview import preview

    return {}, [preview(data, width, limits)]


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


def _mark(data: bytes) -> Answer:
    """Width and height of a mark's file."""
    from plumcrate.imaging.shaping.marking import check_mark

    return {"size": list(check_mark(data))}, []


def _header(data: bytes) -> Answer:
    """The format of a file, by its header."""
    from plumcrate.imaging.identification import identify

    return {"format": identify(data).format}, []


FUNCTIONS: dict[str, Callable[..., Answer]] = {
    "treat": _treat,
    "measure": _measure,
    "preview": _preview,
    "seen": _seen,
    "header": _header,
    "matters": _matters,
    "view": _view,
    "mark": _mark,
}


def _prepare() -> None:
    """Loads what decoding needs, so that little has to be opened once the process is shut in."""
    from numba.core import caching
    from PIL import Image

    import plumcrate.imaging.preview
    import plumcrate.imaging.sample
    import plumcrate.imaging.seen
    import plumcrate.imaging.shaping.marking
    import plumcrate.imaging.shaping.view
    import plumcrate.work.wire

    Image.init()
    plumcrate.imaging.shaping.marking.load_fonts()

    def no_saving(*_: Any) -> None:
        return None

    # Compiled code is read from the cache and never written there by a child.
    setattr(caching.FunctionCache, "save_overload", no_saving)  # noqa: B010 - a method is replaced


def _answer(connection: Connection, request: bytes, data: bytes) -> None:
    from plumcrate.imaging import ImagingError

    name, arguments = pickle.loads(request)
    try:
        head, blobs = FUNCTIONS[name](data, *arguments)
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


def step_back(nice: int) -> None:
    """Leaves the processors to others as far as the niceness says.

    Where the system groups processes by session (``sched_autogroup_enabled``, see sched(7)), niceness and the
    idle class only count within one group, and the group of a session of its own would get as much as any
    other's: the group is made as nice as the process. What a container forbids is left as it is.
    """
    os.nice(nice)
    if nice >= _IDLE:
        with contextlib.suppress(OSError):
            os.sched_setscheduler(0, os.SCHED_IDLE, os.sched_param(0))
    for _ in range(_TRIES):
        try:
            Path("/proc/self/autogroup").write_text(str(nice))
        except BlockingIOError:  # the system lets so many a second do that
            time.sleep(0.1)
        except OSError:
            return
        else:
            return


def main() -> None:
    """Serves requests until the parent closes the socket."""
    link, watch, nice, memory_mb, contained = (int(argument) for argument in sys.argv[1:6])
    step_back(nice)
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    resource.setrlimit(resource.RLIMIT_AS, (memory_mb << 20, memory_mb << 20))
    _prepare()
    holds: dict[str, bool] = {}
    if contained:
        from .containment import shut_in

        holds = shut_in()
    threading.Thread(target=_end_with, args=(watch,), daemon=True).start()
    carrier = socket.socket(fileno=link)
    connection = Connection(os.dup(link))
    connection.send_bytes(json.dumps({"holds": holds}).encode())
    while True:
        mark, descriptors, _, _ = socket.recv_fds(carrier, 1, 1)
        if not mark:
            return
        (descriptor,) = descriptors
        request = connection.recv_bytes()
        data = _bytes_of(descriptor)
        _answer(connection, request, data)
        del data


if __name__ == "__main__":
    main()
