"""Uploads in pieces, by the tus resumable upload protocol 1.0: what was cut off is gone on with."""

from __future__ import annotations

import base64
import hashlib
from collections.abc import Callable
from typing import BinaryIO

from pydantic import TypeAdapter

from plumcrate.contract.automation import NewFiles, UploadProgress

from .calls import Call
from .calls.base import if_match, part, within

#: Bytes of one piece.
PIECE = 4 << 20
#: Told how many bytes have been taken, and how many there are.
Progress = Callable[[int, int], None]
_PIECE_TYPE = "application/offset+octet-stream"


def begin(
    library: str, path: str, file: BinaryIO, treat: NewFiles, replaces: str | None = None
) -> Call[UploadProgress]:
    """Says what is to come: its length and its digest. The file is read once, from its beginning."""
    file.seek(0)
    whole, length = hashlib.sha256(), 0
    while data := file.read(PIECE):
        whole.update(data)
        length += len(data)
    digest = whole.digest()
    said = {"path": path, "treat": str(treat)}
    headers = {
        "Tus-Resumable": "1.0.0",
        "Upload-Length": str(length),
        "Upload-Metadata": ",".join(
            f"{name} {base64.b64encode(value.encode()).decode()}" for name, value in said.items()
        ),
        "Repr-Digest": f"sha-256=:{base64.b64encode(digest).decode()}:",
        **if_match(replaces),
    }
    return Call("POST", f"{within(library)}/uploads", TypeAdapter(UploadProgress), headers=headers)


def progress(library: str, upload: str) -> Call[UploadProgress]:
    return Call("GET", f"{within(library)}/uploads/{part(upload)}", TypeAdapter(UploadProgress))


def piece(library: str, upload: str, file: BinaryIO, offset: int) -> Call[bytes]:
    """What follows a place in the file; nothing at its end, which asks once more that it be taken in."""
    file.seek(offset)
    data = file.read(PIECE)
    headers = {
        "Tus-Resumable": "1.0.0",
        "Content-Type": _PIECE_TYPE,
        "Upload-Offset": str(offset),
        "Content-Digest": f"sha-256=:{base64.b64encode(hashlib.sha256(data).digest()).decode()}:",
    }
    address = f"{within(library)}/uploads/{part(upload)}"
    return Call("PATCH", address, None, content=data, headers=headers, seconds=300)
