"""The originals that a hand-back put back, with their hashes."""

from __future__ import annotations

from collections.abc import Iterator

from sqlalchemy import select
from sqlalchemy.orm import Session

from plumcrate.contract.pictures import FileState
from plumcrate.records.tables import File, Ledger, Run


def originals_put_back(
    session: Session, library_id: int, run_id: int
) -> tuple[dict[int, bytes], dict[int, bytes]]:
    """The SHA-256 of the original by file: of those that the run put back, and of those put back before."""
    rows = session.execute(
        select(Ledger.file_id, Ledger.after_sha256, Ledger.run_id)
        .where(Ledger.library_id == library_id, Ledger.action.in_(["restore", "put-back"]))
        .order_by(Ledger.id)
    )
    now: dict[int, bytes] = {}
    before: dict[int, bytes] = {}
    for file_id, sha256, run in rows:
        if sha256 and file_id is not None:
            (now if run == run_id else before)[file_id] = sha256
    return now, before


def checksums(session: Session, run: Run) -> Iterator[str]:
    """A line for each original that stands in the library once a hand-back has ended, by path, as
    ``sha256sum --check`` of the GNU core utilities reads it: a backslash before the line where one of its
    characters is escaped."""
    now, before = originals_put_back(session, run.library_id, run.id)
    sums = before | now
    files = session.execute(
        select(File.id, File.path)
        .where(File.library_id == run.library_id, File.state != FileState.GONE)
        .order_by(File.path)
    )
    for file_id, path in files:
        if file_id in sums:
            escaped = path.replace("\\", "\\\\").replace("\n", "\\n").replace("\r", "\\r")
            yield f"{'' if escaped == path else chr(92)}{sums[file_id].hex()}  {escaped}\n"
