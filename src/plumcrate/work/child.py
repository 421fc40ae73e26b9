"""What runs in a child process of the sandbox: ``python -m plumcrate.work.child SOCKET WATCH``.

The child answers one request after the other. A request is a frame with a function's name and its
arguments, and a descriptor of the picture's bytes; an answer is a frame of plain JSON and one frame for each
run of bytes that it speaks of. The parent never unpickles what comes from here.
"""

from __future__ import annotations

import io
import json
import mmap
import os
import pickle
import resource
import socket
import sys
import threading
from collections.abc import Callable
from multiprocessing.connection import Connection
from typing import Any

#: A sample of a picture has at most so many pixels.
SAMPLE = 1_500_000

Answer = tuple[dict[str, Any], list[bytes]]


def _treat(data: bytes, recipe: Any, limits: Any, former: Any) -> Answer:
    """A treatment, or of a file that was treated before, what goes beside it."""
    from plumcrate.imaging import treat

    from .wire import as_answer

    return as_answer(treat(data, recipe, limits, former=former))


def _measure(data: bytes, recipe: Any, limits: Any) -> Answer:
    """Bytes before, of the file itself after, and of the lightest of file and copies.

    Of a large JPEG or PNG only the middle is treated, written as the whole was (a JPEG with its own
    tables and sampling, on its own grid of blocks), and the whole is taken to fare alike.
    """
    from plumcrate.imaging import treat

    sample = _middle(data)
    treatment = treat(sample, recipe, limits)
    after = treatment.size_after
    lightest = min([after, *(output.size for output in treatment.chosen if output.role == "copy")])
    scale = len(data) / len(sample)
    return {"sizes": [len(data), round(after * scale), round(lightest * scale)]}, []


def _middle(data: bytes) -> bytes:
    from PIL import Image
    from PIL.JpegImagePlugin import get_sampling

    try:
        image: Any = Image.open(io.BytesIO(data))
        pixels = image.width * image.height
        jpeg = image.format == "JPEG" and image.mode in ("RGB", "L")
        still_png = image.format == "PNG" and not getattr(image, "is_animated", False)
        if pixels <= 2 * SAMPLE or not (jpeg or still_png):
            return data
        part = (SAMPLE / pixels) ** 0.5
        width, height = (max(16, int(side * part) // 16 * 16) for side in image.size)
        left, top = (image.width - width) // 32 * 16, (image.height - height) // 32 * 16
        options: dict[str, Any] = {}
        if jpeg:
            options = {"qtables": image.quantization, "progressive": "progressive" in image.info}
            options |= {"subsampling": get_sampling(image)} if image.mode == "RGB" else {}
        out = io.BytesIO()
        image.crop((left, top, left + width, top + height)).save(out, image.format, optimize=jpeg, **options)
        return out.getvalue()
    except (OSError, ValueError, SyntaxError):
        return data  # whatever is wrong with it, treating the whole says it in its own words


def _preview(data: bytes, width: int, limits: Any) -> Answer:
    """A small WebP for the console, upright, at most ``width`` wide."""
    from PIL import ImageOps

    from plumcrate.imaging.identification import identify
    from plumcrate.imaging.pixels import open_picture

    facts = identify(data)
    if facts.format == "png" and facts.bits > 8:
        image = _of_sixteen_bits(data, limits.pixels)
    else:
        image = open_picture(data, facts, limits, at_least=(width, width))
    image = ImageOps.exif_transpose(image)
    image = image.convert("RGBA" if image.has_transparency_data else "RGB")
    image.thumbnail((width, width * 2), reducing_gap=2.0)
    out = io.BytesIO()
    image.save(out, "WEBP", quality=80)
    return {}, [out.getvalue()]


def _of_sixteen_bits(data: bytes, most_pixels: int) -> Any:
    """A PNG of 16 bits a sample, rounded to eight."""
    from PIL import Image

    from plumcrate.imaging.errors import Damaged
    from plumcrate.imaging.png import PngError, read_png

    try:
        rgba = read_png(data, most_pixels).picture.rgba()
    except PngError as error:
        raise Damaged(str(error)) from None
    return Image.fromarray(((rgba.astype("uint32") + 128) // 257).astype("uint8"))


def _header(data: bytes) -> Answer:
    """The format of a file, by its header."""
    from plumcrate.imaging.identification import identify

    return {"format": identify(data).format}, []


FUNCTIONS: dict[str, Callable[..., Answer]] = {
    "treat": _treat,
    "measure": _measure,
    "preview": _preview,
    "header": _header,
}


def _prepare() -> None:
    """Loads what decoding needs, so that little has to be opened once the process is shut in."""
    from numba.core import caching
    from PIL import Image

    import plumcrate.imaging.treatment
    import plumcrate.work.wire  # noqa: F401

    Image.init()

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


def main() -> None:
    """Serves requests until the parent closes the socket."""
    link, watch, nice, memory_mb, contained = (int(argument) for argument in sys.argv[1:6])
    os.nice(nice)
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
