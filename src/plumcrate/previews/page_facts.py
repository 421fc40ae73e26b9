"""The facts that pages are rewritten with: from the records, with what stands where a picture will be."""

from __future__ import annotations

from collections.abc import Sequence

from plumcrate.contract.delivery import PageFile, Placeholder
from plumcrate.imaging.formats import FORMATS
from plumcrate.records.database import Database
from plumcrate.records.queries.pages import page_files

from .placeholders import Placeholders

MEDIA_TYPES = {name: format.media_type for name, format in FORMATS.items()}
#: Files of a page for which a preview is begun at once.
_MOST = 200


class PageFacts:
    """Looks up the files of one library."""

    def __init__(
        self, database: Database, library_id: int, placeholders: Placeholders, placeholder: Placeholder
    ) -> None:
        self._database, self._library_id = database, library_id
        self._placeholders, self._placeholder = placeholders, placeholder

    def of(self, paths: Sequence[str]) -> dict[str, PageFile]:
        """Files by path; those that are not known are left out."""
        with self._database.begin() as session:
            found = page_files(session, self._library_id, paths, MEDIA_TYPES)
        if self._placeholder is not Placeholder.NONE:
            for file_id, file in list(found.values())[:_MOST]:
                file.colour, file.preview = self._placeholders.of(file_id)
        return {path: file for path, (_, file) in found.items()}
