"""Lists of many pictures: what facets, first pages and pages far down cost.

``script/bench lists [PICTURES]``; the pictures are records only.
"""

from __future__ import annotations

import statistics
import sys
import time
from collections.abc import Callable
from pathlib import Path
from tempfile import TemporaryDirectory

from rich.console import Console
from rich.table import Table
from sqlalchemy import text
from sqlalchemy.orm import Session

from plumcrate.contract.descriptions import DescriptionFilter
from plumcrate.contract.pictures import PictureFilter, PictureSort, SavingClass
from plumcrate.contract.recipes import RecipeSettings
from plumcrate.descriptions.listing import descriptions_page, summary
from plumcrate.records.database import Database
from plumcrate.records.private import PrivatePostgres
from plumcrate.records.queries.facets import facets
from plumcrate.records.queries.libraries import new_library
from plumcrate.records.queries.pictures import pictures_page
from plumcrate.records.tables import Library

_PAGE, _ROUNDS = 60, 9

_FILL = """
INSERT INTO pictures (library_id, path, folder, name, format, width, height, state, original_id, files,
    bytes_before, bytes_now, bytes_lightest, score, worst, touched_by)
SELECT 1, folder || '/p' || n || '.jpg', folder, 'p' || n || '.jpg',
    CASE WHEN n % 5 = 0 THEN 'png' ELSE 'jpeg' END, 1200, 800,
    CASE WHEN n % 50 = 0 THEN 'kept' ELSE 'lighter' END, n, 5,
    1000000 + n % 700000, 400000 + n % 600000, 300000 + n % 500000, 70 + n % 300 / 10.0,
    CASE WHEN n % 9 > 0 THEN 60 + n % 400 / 10.0 END, ''
FROM (
    SELECT n, to_char(n % 25 + 2000, 'FM0000') || '/' || to_char(n / 25 % 12 + 1, 'FM00') AS folder
    FROM generate_series(1, :pictures) n
) AS all_of_them
"""
#: Two fifths are described, one in twenty of them as another is.
_DESCRIBE = """
INSERT INTO descriptions (picture_id, language, library_id, alternative, title, caption, credit, decorative,
    fold, faults, version, by)
SELECT id, 'en', 1, 'Gannet ' || id, '', '', '', false,
    md5((id - CASE WHEN id % 100 = 1 THEN 1 ELSE 0 END)::text),
    CASE WHEN id % 7 = 0 THEN ARRAY['too-long'] ELSE '{}' END, 1, 'the bench'
FROM pictures WHERE id % 5 < 2
"""
_FILES = """
INSERT INTO files (library_id, picture_id, path, folder, role, state, format, width, height, transparent,
    animated, size_before, size_now, mtime_ns, mtime_ns_before, held, slot, unwanted, removed_unused)
SELECT 1, id, path, folder, 'original', 'new', format, width, height, false, false, 9, 9, 1, 1, false, '',
    false, false
FROM pictures ORDER BY id
"""


def main() -> None:
    pictures = int(sys.argv[1]) if len(sys.argv) > 1 else 500_000
    with TemporaryDirectory() as folder:
        Path(folder).chmod(0o755)
        server = PrivatePostgres(Path(folder) / "postgres", fast=True, elsewhere=True)
        database = Database(server.start())
        try:
            database.migrate()
            with database.begin() as session:
                new_library(session, "l", "L", "/l", [], RecipeSettings(), "the bench")
            fill(database, pictures)
            with database.reading() as session:
                Console(width=100).print(_measured(session, pictures))
            database.close()
        finally:
            server.remove()


def fill(database: Database, pictures: int) -> None:
    """So many pictures in library 1, by record only, with one file each; two fifths are described."""
    with database.begin() as session:
        session.execute(text(_FILL), {"pictures": pictures})
        session.execute(text("ALTER TABLE files DISABLE TRIGGER USER"))
        session.execute(text(_FILES))
        session.execute(text(_DESCRIBE))
    database.at_once(text("ANALYZE"))


def _measured(session: Session, pictures: int) -> Table:
    table = Table("what", "median, ms", "most, ms", title=f"Lists of {pictures:,} pictures")
    library = session.get_one(Library, 1)
    everything, far = PictureFilter(), pictures * 4 // 5

    def row(name: str, question: Callable[[], object]) -> None:
        took = []
        for _ in range(_ROUNDS):
            began = time.perf_counter()
            question()
            took.append((time.perf_counter() - began) * 1000)
        table.add_row(name, f"{statistics.median(took):.0f}", f"{max(took):.0f}")

    def page(sort: PictureSort, **where: object) -> object:
        return pictures_page(session, library, everything, sort, limit=_PAGE, **where)  # type: ignore[arg-type]

    row("facets, nothing chosen", lambda: facets(session, library, everything))
    some = PictureFilter(format=["png"], saving=[SavingClass.TO_50], folder="2003")
    row("facets, three choices", lambda: facets(session, library, some))
    for sort in PictureSort:
        deep = _cursor_at(session, library, sort, far)
        row(f"by {sort}: the first page", lambda sort=sort: page(sort))  # type: ignore[misc]
        row(f"by {sort}: the page at {far:,}", lambda sort=sort, at=deep: page(sort, after=at))  # type: ignore[misc]

    def described(**chosen: object) -> object:
        filter = DescriptionFilter.model_validate(chosen)
        return descriptions_page(session, library, "en", filter, limit=30, after=None)

    row("descriptions: how far the library is", lambda: summary(session, library, "en"))
    row("descriptions: the first page", lambda: described())
    row("descriptions: those that say nothing", lambda: described(wanting=["missing"]))
    row("descriptions: those that say what another says", lambda: described(wanting=["doubled"]))
    row("descriptions: by a word", lambda: described(search="gannet 77"))
    return table


def _cursor_at(session: Session, library: Library, sort: PictureSort, far: int) -> str | None:
    """Where so many pictures have been passed."""
    cursor, passed = None, 0
    while passed < far and (passed == 0 or cursor is not None):
        page = pictures_page(session, library, PictureFilter(), sort, limit=min(5_000, far), after=cursor)
        cursor, passed = page.cursor, passed + len(page)
        session.expunge_all()
    return cursor


if __name__ == "__main__":
    main()
