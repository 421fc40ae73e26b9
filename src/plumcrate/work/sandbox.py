"""Child processes in which strangers' files are decoded, with limits of time and memory.

A child that crashes, hangs or eats memory costs one picture and gives a plain reason.
"""

from __future__ import annotations

import io
import multiprocessing
import os
import resource
from collections.abc import Callable
from concurrent.futures import TimeoutError, wait
from typing import TYPE_CHECKING, Any

from pebble import ProcessExpired, ProcessPool

from plumcrate.imaging import ImagingError

if TYPE_CHECKING:
    from plumcrate.imaging import Recipe, Treatment


class SandboxError(Exception):
    """The child did not come back with a result. ``code`` is stable, the message plain."""

    def __init__(self, code: str, message: str) -> None:
        super().__init__(message)
        self.code = code


def _limit(memory_mb: int, urgent: bool) -> None:
    """Runs in each new child: less priority than the host's other work, a cap on memory."""
    os.nice(5 if urgent else 19)
    for name in ("OMP_NUM_THREADS", "NUMBA_NUM_THREADS", "OPENBLAS_NUM_THREADS"):
        os.environ[name] = "1"
    resource.setrlimit(resource.RLIMIT_AS, (memory_mb << 20, memory_mb << 20))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))


def _treat(data: bytes, recipe: Recipe) -> Treatment:
    from plumcrate.imaging import treat  # the codecs belong into the children, not into the parent

    return treat(data, recipe)


#: A sample of a picture has at most so many pixels.
_SAMPLE = 1_500_000


def _measure(data: bytes, recipe: Recipe) -> tuple[int, int, int]:
    """Bytes before, of the file itself after, and of the lightest of file and copies.

    Of a large JPEG or PNG only the middle is treated, written as the whole was (a JPEG with its own
    tables and sampling, on its own grid of blocks), and the whole is taken to fare alike.
    """
    from plumcrate.imaging import treat

    sample = _middle(data)
    treatment = treat(sample, recipe)
    after = treatment.size_after
    lightest = min([after, *(copy.size for copy in treatment.copies if copy.data is not None)])
    scale = len(data) / len(sample)
    return len(data), round(after * scale), round(lightest * scale)


def _middle(data: bytes) -> bytes:
    from PIL import Image
    from PIL.JpegImagePlugin import get_sampling

    try:
        image: Any = Image.open(io.BytesIO(data))
        pixels = image.width * image.height
        jpeg = image.format == "JPEG" and image.mode in ("RGB", "L")
        still_png = image.format == "PNG" and not getattr(image, "is_animated", False)
        if pixels <= 2 * _SAMPLE or not (jpeg or still_png):
            return data
        part = (_SAMPLE / pixels) ** 0.5
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


def _preview(data: bytes, width: int, pixels: int) -> bytes:
    """A small WebP for the console, upright, at most ``width`` wide."""
    from PIL import Image, ImageOps

    from plumcrate.imaging.identification import identify
    from plumcrate.imaging.pixels import open_picture
    from plumcrate.imaging.recipe import Limits

    image: Image.Image = open_picture(data, identify(data), Limits(pixels), at_least=(width, width))
    image = ImageOps.exif_transpose(image)
    image = image.convert("RGBA" if image.has_transparency_data else "RGB")
    image.thumbnail((width, width * 2), reducing_gap=2.0)
    out = io.BytesIO()
    image.save(out, "WEBP", quality=80)
    return out.getvalue()


class Sandbox:
    """A pool of children. ``seconds_per_megapixel`` and 60 more are the time limit of a picture.

    ``urgent`` children go before others, and still behind the host's own work.
    """

    def __init__(
        self, children: int, memory_mb: int, seconds_per_megapixel: float, *, urgent: bool = False
    ) -> None:
        self._seconds_per_megapixel = seconds_per_megapixel
        self._memory_mb = memory_mb
        self._closed = False
        self._pool = ProcessPool(
            max_workers=children,
            max_tasks=100,
            initializer=_limit,
            initargs=(memory_mb, urgent),
            context=multiprocessing.get_context("forkserver"),
        )

    def treat(self, data: bytes, recipe: Recipe, megapixels: float) -> Treatment:
        """:func:`plumcrate.imaging.treat` in a child. Raises ImagingError or SandboxError."""
        result: Treatment = self._call(60 + self._seconds_per_megapixel * megapixels, _treat, data, recipe)
        return result

    def measure(self, data: bytes, recipe: Recipe, megapixels: float) -> tuple[int, int, int]:
        """What a treatment would save, from a part of a large picture: bytes before, after, lightest.

        Raises ImagingError or SandboxError.
        """
        seconds = 60 + self._seconds_per_megapixel * min(megapixels, 2 * _SAMPLE / 1e6)
        result: tuple[int, int, int] = self._call(seconds, _measure, data, recipe)
        return result

    def preview(self, data: bytes, width: int, pixels: int) -> bytes:
        """A small WebP of a picture. Raises ImagingError or SandboxError."""
        result: bytes = self._call(30, _preview, data, width, pixels)
        return result

    def _call(self, seconds: float, function: Callable[..., Any], *arguments: Any) -> Any:
        try:
            future = self._pool.schedule(function, args=arguments, timeout=seconds)
            # A pool that is stopped may leave its futures open, so nobody waits for one blindly.
            while not wait([future], timeout=0.5).done:
                if self._closed:
                    raise SandboxError("stopped", "the worker was stopping")
            return future.result()
        except (ImagingError, SandboxError):
            raise
        except Exception as error:
            if self._closed:
                raise SandboxError("stopped", "the worker was stopping") from None
            raise self._explained(error, seconds) from error

    def _explained(self, error: Exception, seconds: float) -> SandboxError:
        """What became of the child, in plain words."""
        left = "it was left as it is"
        if isinstance(error, ProcessExpired):
            reason = f"decoding it ended the child process (code {error.exitcode}); {left}"
            return SandboxError("child-died", reason)
        if isinstance(error, TimeoutError):
            return SandboxError("took-too-long", f"it took longer than {seconds:.0f} s; {left}")
        if isinstance(error, MemoryError):
            reason = f"it needs more than the {self._memory_mb} MB a child may use; {left}"
            return SandboxError("out-of-memory", reason)
        # A fault of ours in the child: one picture, one plain line, with the kind for a report.
        return SandboxError("internal-error", f"an internal error ({type(error).__name__}: {error}); {left}")

    def close(self) -> None:
        """Ends every child at once; calls that wait for one raise ``stopped``."""
        self._closed = True
        self._pool.stop()  # type: ignore[no-untyped-call]
        self._pool.join()
