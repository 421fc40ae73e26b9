"""The media folder as the site should see it: what it opens is what it once wrote."""

from __future__ import annotations

from typing import Any

from django.core.files.base import ContentFile, File
from django.core.files.storage import FileSystemStorage

from .service import service


class LibraryStorage(FileSystemStorage):
    """A file that is opened has the bytes that the site wrote, so that a rendition is made from the original
    and not from what was made smaller. Size, address and time are those of the file as it stands.

    A name is taken as long as the service has a file on record under it, also one that made way for its
    conversion. While the service does not answer, this is Django's own storage.
    """

    def _open(self, name: str, mode: str = "rb") -> File[Any]:
        if mode == "rb":
            original = service().original(name)
            if original is not None:
                return ContentFile(original, name=name)
        opened: File[Any] = super()._open(name, mode)
        return opened

    def exists(self, name: str) -> bool:
        return super().exists(name) or name in service().files([name])
