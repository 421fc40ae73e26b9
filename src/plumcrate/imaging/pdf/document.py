"""Opening a document; what is left alone because a change would break what it claims or is for."""

from __future__ import annotations

import io
from typing import Any

import pikepdf

from ..errors import Damaged, LeftAlone

MOST_PAGES = 500
_FORM = "it is a form to be filled in, so it is left alone"
#: In XMP, by which a document claims to keep to an archive's rules (ISO 19005-1, 6.7.11).
_ARCHIVE = (b"pdfaid:part", b"http://www.aiim.org/pdfa/ns/id/")


def open_document(data: bytes) -> pikepdf.Pdf:
    """Raises Damaged for what cannot be read to its end, LeftAlone with the reason."""
    try:
        pdf = pikepdf.open(io.BytesIO(data), attempt_recovery=False, suppress_warnings=True)
    except pikepdf.PasswordError:
        raise LeftAlone("it is encrypted, so it is left alone") from None
    except (pikepdf.PdfError, ValueError, RuntimeError, OSError) as error:
        if _viewers_guess(data):
            raise LeftAlone("its index is damaged; viewers guess it, so it is left alone") from None
        raise Damaged(f"the PDF cannot be read ({str(error)[:200]})") from None
    try:
        _refuse(pdf)
    except (pikepdf.PdfError, ValueError, TypeError, RuntimeError) as error:
        raise Damaged(f"the PDF cannot be read ({str(error)[:200]})") from None
    return pdf


def _refuse(pdf: pikepdf.Pdf) -> None:
    if pdf.is_encrypted:
        raise LeftAlone("it is encrypted, so it is left alone")
    pages = len(pdf.pages)
    if pages == 0:
        raise LeftAlone("it has no page")
    if pages > MOST_PAGES:
        raise LeftAlone(f"documents of more than {MOST_PAGES} pages are left alone; it has {pages:,}")
    form: Any = pdf.Root.get("/AcroForm")
    if isinstance(form, pikepdf.Dictionary):
        if int(form.get("/SigFlags", 0)) & 1:
            raise LeftAlone("it is signed, and any change would break the signature")
        if len(form.get("/Fields", [])) or "/XFA" in form:
            raise LeftAlone(_FORM)
    if any(_asks(page) for page in pdf.pages):
        raise LeftAlone(_FORM)
    if "/Perms" in pdf.Root:
        raise LeftAlone("it is certified, and any change would break that")
    claims: Any = pdf.Root.get("/Metadata")
    if isinstance(claims, pikepdf.Stream) and any(word in claims.read_bytes() for word in _ARCHIVE):
        raise LeftAlone("it claims to keep to the rules of archives (PDF/A), so it is left alone")


def _viewers_guess(data: bytes) -> bool:
    """Whether pages are found in a document whose index is damaged."""
    try:
        with pikepdf.open(io.BytesIO(data), suppress_warnings=True) as pdf:
            return len(pdf.pages) > 0
    except (pikepdf.PdfError, ValueError, RuntimeError, OSError):
        return False


def _asks(page: pikepdf.Page) -> bool:
    """Whether a page holds a field, also one that no form knows of."""
    notes: Any = page.get("/Annots", [])
    return any(
        isinstance(note, pikepdf.Dictionary) and note.get("/Subtype") == pikepdf.Name.Widget for note in notes
    )
