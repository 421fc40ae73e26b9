"""PDF documents (ISO 32000-2): pictures within are made lighter, everything is packed well, and nothing else
is touched."""

from .document import open_document
from .looks import CannotShow, Looks, first_page
from .packing import merge_doubles, packed
from .pictures import lighten_pictures

__all__ = [
    "CannotShow",
    "Looks",
    "first_page",
    "lighten_pictures",
    "merge_doubles",
    "open_document",
    "packed",
]
