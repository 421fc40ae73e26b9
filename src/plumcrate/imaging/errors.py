"""Every error the core raises. Each has a stable code and a sentence an administrator can read."""

from __future__ import annotations


class ImagingError(Exception):
    """A file that cannot be treated. ``code`` is stable; ``str(error)`` is a plain sentence."""

    code = "imaging-error"


class NotAPicture(ImagingError):
    """The content is none of the formats known here."""

    code = "not-a-picture"


class MoreDataNeeded(ImagingError):
    """The header goes on beyond the bytes given; identify again with more of the file."""

    code = "more-data-needed"


class Damaged(ImagingError):
    """The file starts as a picture but does not decode to its end."""

    code = "damaged"


class TooLarge(ImagingError):
    """More pixels than the limits allow."""

    code = "too-large"


class LeftAlone(ImagingError):
    """A sound picture of a kind that is deliberately not treated."""

    code = "left-alone"
