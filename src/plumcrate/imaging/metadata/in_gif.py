"""Where GIF carries metadata, and what of it is kept there: comment and application extensions."""

from __future__ import annotations

from ..kinds import EVERYTHING, Keep, Kind
from . import xmp

#: The identifier of XMP (Adobe XMP Specification, Part 3, 1.1.2).
XMP_APPLICATION = b"XMP DataXMP"
#: Colour profiles, which change looks ("ICC profiles in GIF", International Color Consortium).
_PROFILE = b"ICCRGBG1012"
#: An application extension: its identifier and its data.
Application = tuple[bytes, bytes]


def gif_applications(applications: list[Application], keep: Keep) -> list[Application]:
    """Application extensions with only what is kept."""
    if keep == EVERYTHING:
        return applications
    out = []
    for name, body in applications:
        if name == XMP_APPLICATION:
            body = xmp.kept(body, keep)
        elif name != _PROFILE and Kind.REST not in keep:
            body = b""
        if body:
            out.append((name, body))
    return out


def gif_comments(comments: list[bytes], keep: Keep) -> list[bytes]:
    """Comments, which are all or nothing."""
    return comments if Kind.REST in keep else []
