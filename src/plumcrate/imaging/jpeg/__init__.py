"""JPEG (ITU-T T.81), read to its coefficients and written again, in our own code.

:func:`recompress` makes a file smaller without changing a coefficient; :class:`LossyEncoder` encodes
anew; :class:`JpegError` is raised for what cannot be read or is deliberately left alone.
"""

from .lossy import LossyEncoder
from .recompress import recompress
from .segments import JpegError

__all__ = ["JpegError", "LossyEncoder", "recompress"]
