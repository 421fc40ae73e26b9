"""What a document looks like and says: its pages drawn, their words, where they lead."""

from __future__ import annotations

import gc
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass

import pypdfium2
from PIL import Image

from ..pixels import Pixels, to_pixels

#: A page's longer side when it is compared, in pixels: about 110 to the inch on a sheet of A4.
_SIDE = 1280


class CannotShow(ValueError):
    """A document that is not drawn here."""


@dataclass(frozen=True, slots=True)
class PageLook:
    """A page as it is drawn, its words, and how many links and notes it holds."""

    pixels: Pixels
    words: str
    size: tuple[float, float]
    notes: int


class Looks:
    """A document's pages, one after the other: none is kept in memory."""

    def __init__(self, data: bytes) -> None:
        self._data = data

    @contextmanager
    def _opened(self) -> Iterator[pypdfium2.PdfDocument]:
        try:
            document = pypdfium2.PdfDocument(self._data)
        except pypdfium2.PdfiumError as error:
            raise CannotShow(str(error)) from None
        try:
            yield document
        finally:
            document.close()

    @property
    def outline(self) -> list[str]:
        """The titles of its outline. Raises CannotShow."""
        with self._opened() as document:
            return [mark.get_title() for mark in document.get_toc(max_depth=15)]

    def pages(self) -> Iterator[PageLook]:
        """Raises CannotShow."""
        with self._opened() as document:
            for number in range(len(document)):
                yield _look(document, number)
                if number % 32 == 31:
                    gc.collect()


def _look(document: pypdfium2.PdfDocument, number: int) -> PageLook:
    try:
        page = document[number]
        size = page.get_size()
        image = page.render(scale=_SIDE / max(1.0, *size)).to_pil().convert("RGB")
        text = page.get_textpage()
        words = text.get_text_bounded()
        notes = pypdfium2.raw.FPDFPage_GetAnnotCount(page)
        text.close()
        page.close()
    except (pypdfium2.PdfiumError, ValueError, MemoryError) as error:
        raise CannotShow(f"page {number + 1}: {error}") from None
    return PageLook(to_pixels(image), words, size, notes)


def first_page(data: bytes, width: int) -> Image.Image:
    """The first page, so wide. Raises CannotShow."""
    try:
        document = pypdfium2.PdfDocument(data)
        page = document[0]
        across, down = page.get_size()
        scale = min(width / max(1.0, across), 4 * width / max(1.0, down))
        image: Image.Image = page.render(scale=scale).to_pil().convert("RGB")
        document.close()
    except (pypdfium2.PdfiumError, ValueError) as error:
        raise CannotShow(str(error)) from None
    return image
