"""Surveying a library: listing its files, telling what each is, grouping derived sizes.

A repeated survey opens only files whose size or time changed. When a file that we treated looks
changed, its hash decides. Nothing in the library is written, with one exception: copies of ours
beside a file that somebody has since replaced would show the old picture, and are removed.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any

import structlog
from sqlalchemy import delete, insert, select, text, update
from sqlalchemy.exc import OperationalError
from sqlalchemy.orm import Session

from plumcrate.contract import FileRole, FileState, SurveyState
from plumcrate.imaging import ImagingError
from plumcrate.imaging.errors import MoreDataNeeded
from plumcrate.imaging.identification import EXTENSIONS, identify
from plumcrate.keeping.keeper import Keeper, Note
from plumcrate.records.database import Database, notify
from plumcrate.records.queries.sums import refresh_library
from plumcrate.records.tables import Copy, File, Library, Picture, Survey
from plumcrate.storage.folder import Entry, Folder, Skipped, StorageError
from plumcrate.storage.grouping import Size, group

log = structlog.get_logger()

_ENDINGS = frozenset(ending for name, endings in EXTENSIONS.items() if name != "pdf" for ending in endings)
_HEAD = 65_536
_NOTES = 200
_BATCH = 2_000


@dataclass(slots=True)
class _Known:
    id: int
    size: int
    mtime_ns: int
    state: str
    treated: bool


@dataclass(slots=True)
class _Findings:
    seen: int = 0
    unchanged: int = 0
    new: list[dict[str, Any]] = field(default_factory=list)
    changed: list[tuple[int, dict[str, Any]]] = field(default_factory=list)
    touched: list[tuple[int, int]] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    others: Counter[str] = field(default_factory=Counter)


def survey(database: Database, survey_id: int, keeper: Keeper) -> None:
    """Carries out a survey that waits in the records. Errors end up in its row, in plain words."""
    with database.begin() as session:
        row = session.get_one(Survey, survey_id)
        row.state, row.started_at = SurveyState.RUNNING, datetime.now(UTC)
        library = session.get_one(Library, row.library_id)
        patterns = list(library.patterns)
        notify(session, survey=survey_id)
    try:
        if not keeper.folder.root.is_dir():
            raise StorageError(
                "folder-missing",
                f"the folder {keeper.folder.root} is not there or cannot be read: "
                "nothing was recorded as gone; bring it back and survey again",
            )
        _carry_out(database, survey_id, library.id, keeper, patterns)
    except StorageError as error:
        _fail(database, survey_id, str(error))
    except OperationalError:
        raise  # the database is away: the survey starts again when it is back
    except Exception as error:
        log.exception("a survey failed", survey=survey_id)
        _fail(database, survey_id, f"an internal error ({type(error).__name__}); the worker's log says more")


def _fail(database: Database, survey_id: int, reason: str) -> None:
    with database.begin() as session:
        row = session.get_one(Survey, survey_id)
        row.state, row.reason, row.finished_at = SurveyState.FAILED, reason, datetime.now(UTC)
        notify(session, survey=survey_id)


def _carry_out(
    database: Database, survey_id: int, library_id: int, keeper: Keeper, patterns: list[str]
) -> None:
    with database.begin() as session:
        known, copies = _known_files(session, library_id)
    findings = _Findings()
    seen: set[str] = set()
    for entry in keeper.folder.walk():
        if isinstance(entry, Skipped):
            findings.notes.append(f"{entry.path}: {entry.reason}, left alone")
            continue
        if entry.path in copies:
            continue
        ending = "." + entry.path.rpartition(".")[2].lower()
        if ending not in _ENDINGS:
            findings.others[ending if "." in entry.path.rpartition("/")[2] else "no ending"] += 1
            continue
        seen.add(entry.path)
        findings.seen += 1
        _look_at(keeper, entry, known.get(entry.path), findings, database)
        if findings.seen % _BATCH == 0:
            _tell(database, survey_id, findings)
    gone = [file.id for path, file in known.items() if path not in seen and file.state != FileState.GONE]
    if findings.seen == 0 and len(gone) > 0 and not any(keeper.folder.root.iterdir()):
        raise StorageError(
            "folder-empty",
            f"the folder {keeper.folder.root} is empty although {len(gone):,} files were known in it: is it "
            "mounted? Nothing was recorded as gone",
        )
    if findings.others:
        listing = ", ".join(f"{count:,} {ending}" for ending, count in findings.others.most_common(8))
        findings.notes.append(f"files that are not pictures by name, left alone: {listing}")
    with database.begin() as session:
        _record(session, library_id, findings, gone)
        if findings.new or findings.changed or gone:
            _regroup(session, library_id, patterns)
            refresh_library(session, library_id)
        _finish(session, survey_id, library_id, findings, len(gone))


def _known_files(session: Session, library_id: int) -> tuple[dict[str, _Known], set[str]]:
    rows = session.execute(
        select(File.path, File.id, File.size_now, File.mtime_ns, File.state, File.sha256.is_not(None)).where(
            File.library_id == library_id
        )
    )
    known = {row.path: _Known(*row[1:]) for row in rows}
    return known, set(session.scalars(select(Copy.path).where(Copy.library_id == library_id)))


def _look_at(
    keeper: Keeper, entry: Entry, known: _Known | None, findings: _Findings, database: Database
) -> None:
    if known is not None and known.state != FileState.GONE:
        if (known.size, known.mtime_ns) == (entry.size, entry.mtime_ns):
            findings.unchanged += 1
            return
        # A run may be writing while we look, so what counts is the record as it is now.
        with database.begin() as session:
            file = session.get_one(File, known.id)
        try:
            facts = keeper.folder.stat(entry.path)
        except StorageError:
            return
        if (file.size_now, file.mtime_ns) == (facts.st_size, facts.st_mtime_ns):
            return
        if file.sha256 is not None:
            if keeper.folder.sha256(entry.path) == file.sha256:
                findings.touched.append((known.id, facts.st_mtime_ns))
                return
            keeper.drop_copies(file, Note(detail={"because": "the file was changed by somebody else"}))
    values = _identified(keeper.folder, entry)
    if known is None:
        findings.new.append(values)
    else:
        findings.changed.append((known.id, values))


def _identified(folder: Folder, entry: Entry) -> dict[str, Any]:
    values: dict[str, Any] = {
        "path": entry.path,
        "size_before": entry.size,
        "size_now": entry.size,
        "mtime_ns": entry.mtime_ns,
        "mtime_ns_before": entry.mtime_ns,
        "state": FileState.NEW,
        "reason": None,
        "format": None,
        "width": 0,
        "height": 0,
        "sha256": None,
        "before_sha256": None,
        "score": None,
        "level": None,
        "recipe": None,
        "how": None,
        "treated_at": None,
    }
    try:
        try:
            facts = identify(folder.read(entry.path, _HEAD))
        except MoreDataNeeded:
            facts = identify(folder.read(entry.path))
        width, height = facts.shown_size
        values |= {"format": facts.format, "width": width, "height": height}
    except MoreDataNeeded:
        values |= {"state": FileState.UNREADABLE, "reason": "the file ends within its header"}
    except ImagingError as error:
        values |= {"state": FileState.UNREADABLE, "reason": str(error)}
    except StorageError as error:
        values |= {"state": FileState.UNREADABLE, "reason": str(error)}
    return values


def _record(session: Session, library_id: int, findings: _Findings, gone: list[int]) -> None:
    if findings.new:
        pictures = [_picture_row(library_id, values["path"]) for values in findings.new]
        ids: dict[str, int] = {}
        for batch in _batches(pictures):
            rows = session.execute(insert(Picture).returning(Picture.path, Picture.id), batch)
            ids |= dict(rows.all())
        files = [
            {"library_id": library_id, "picture_id": ids[values["path"]], **values} for values in findings.new
        ]
        for batch in _batches(files):
            session.execute(insert(File), batch)
    for file_id, values in findings.changed:
        session.execute(update(File).where(File.id == file_id).values(**values))
    for file_id, mtime_ns in findings.touched:
        session.execute(update(File).where(File.id == file_id).values(mtime_ns=mtime_ns))
    if gone:
        session.execute(update(File).where(File.id.in_(gone)).values(state=FileState.GONE))


def _picture_row(library_id: int, path: str) -> dict[str, Any]:
    folder, _, name = path.rpartition("/")
    return {"library_id": library_id, "path": path, "folder": folder, "name": name}


def _batches(rows: list[dict[str, Any]]) -> Iterable[list[dict[str, Any]]]:
    return (rows[start : start + _BATCH] for start in range(0, len(rows), _BATCH))


def _regroup(session: Session, library_id: int, patterns: list[str]) -> None:
    """Makes each file belong to the picture that its name and size say."""
    rows = list(
        session.execute(
            select(File.id, File.path, File.width, File.height, File.role, File.picture_id, Picture.path)
            .join(Picture, Picture.id == File.picture_id)
            .where(File.library_id == library_id, File.state != FileState.GONE)
        )
    )
    renditions = group({path: Size(width, height) for _, path, width, height, *_ in rows}, patterns)
    picture_of = dict(
        session.execute(select(Picture.path, Picture.id).where(Picture.library_id == library_id)).all()
    )
    missing = sorted({renditions.get(row[1], row[1]) for row in rows} - picture_of.keys())
    for batch in _batches([_picture_row(library_id, path) for path in missing]):
        inserted = session.execute(insert(Picture).returning(Picture.path, Picture.id), batch)
        picture_of |= dict(inserted.all())
    moves = []
    for file_id, path, _, _, role, picture_id, _ in rows:
        wanted = FileRole.RENDITION if path in renditions else FileRole.ORIGINAL
        home = picture_of[renditions.get(path, path)]
        if (role, picture_id) != (wanted, home):
            moves.append({"id": file_id, "role": str(wanted), "picture_id": home})
    for batch in _batches(moves):
        session.execute(update(File), batch)


def _tell(database: Database, survey_id: int, findings: _Findings) -> None:
    with database.begin() as session:
        session.execute(update(Survey).where(Survey.id == survey_id).values(files_seen=findings.seen))
        notify(session, survey=survey_id)


def _finish(session: Session, survey_id: int, library_id: int, findings: _Findings, gone: int) -> None:
    row = session.get_one(Survey, survey_id)
    row.state, row.finished_at = SurveyState.FINISHED, datetime.now(UTC)
    row.files_seen, row.files_new = findings.seen, len(findings.new)
    row.files_changed, row.files_gone = len(findings.changed), gone
    counts = session.execute(
        text(
            "SELECT (SELECT count(*) FROM files WHERE library_id = :id AND state = 'unreadable'), "
            "(SELECT count(*) FROM pictures WHERE library_id = :id AND state <> 'gone')"
        ),
        {"id": library_id},
    ).one()
    row.files_unreadable, row.pictures = counts
    more = len(findings.notes) - _NOTES
    row.notes = findings.notes[:_NOTES] + ([f"and {more:,} more"] if more > 0 else [])
    notify(session, survey=survey_id)
    # The last ten surveys are enough of a history.
    session.execute(
        delete(Survey).where(
            Survey.library_id == library_id,
            Survey.id.not_in(
                select(Survey.id).where(Survey.library_id == library_id).order_by(Survey.id.desc()).limit(10)
            ),
        )
    )
