"""Knowing what is ours by content: files of ours that were moved, copied, or put in another's place."""

from __future__ import annotations

from collections import defaultdict
from datetime import UTC, datetime
from pathlib import PurePosixPath
from typing import TYPE_CHECKING, Any

from sqlalchemy import exists, func, or_, select, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from plumcrate.contract.pictures import FileRole, FileState, Purpose
from plumcrate.imaging.formats import FORMATS
from plumcrate.keeping.changes import ChangeNote
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.recovery import recover
from plumcrate.queue.locks import PICTURE_LOCK
from plumcrate.records.database import Database
from plumcrate.records.tables import Backup, Derived, File, Journal, Ledger, Picture, Result

if TYPE_CHECKING:
    from .reconciling import Findings

_MOVED = ChangeNote(detail={"because": "the file was moved by somebody else"})
#: A copy of ours that was found, as values of a file's row, and what is known of it.
Stray = tuple[dict[str, Any], Result]
#: What is kept of a treatment with its result, and stands in the file's record.
#: What we made that has a file's record of its own, which goes where it goes.
_WITH_A_ROW = ("file", "size")
_MADE = ("level", "recipe", "score", "how")


class Mover:
    """Recognises files of one library by their hashes."""

    def __init__(self, database: Database, keeper: Keeper, library_id: int) -> None:
        self.database, self.keeper, self.library_id = database, keeper, library_id

    def recognise(
        self, arrivals: list[dict[str, Any]], findings: Findings, touched: set[int]
    ) -> tuple[list[dict[str, Any]], list[Stray]]:
        """The arrivals that get a record, those of ours with their claims; and copies without their file.

        What was moved is moved in the records.
        """
        ours = self._hashes_of(arrivals)
        results = self._results(set(ours.values()))
        left: list[dict[str, Any]] = []
        later: list[Stray] = []
        for values in arrivals:
            content = ours.get(values["path"], b"")
            result = results.get(content)
            if result is None:
                self.note_original_seen(content)
                if not (content and self._original_moved(values, content, findings, touched)):
                    left.append(values)
            elif result.purpose in _WITH_A_ROW and self._moved(values, result.sha256, findings, touched):
                continue
            elif result.purpose != "file":
                later.append((values, result))
            else:
                left.append(values | (self.claims(result.sha256) or {}))
        return left, later

    def find_homes(self, strays: list[Stray], findings: Findings, touched: set[int]) -> list[dict[str, Any]]:
        """Gives copies of ours back to their files, once these have their records; returns the others."""
        return [
            values | _left_alone(result)
            for values, result in strays
            if not self._has_home(values["path"], result, findings, touched)
        ]

    # -- hashes -------------------------------------------------------------------------------

    def _hashes_of(self, arrivals: list[dict[str, Any]]) -> dict[str, bytes]:
        """The hash of each arrival whose size is that of a result or an original of ours."""
        by_size: dict[int, list[str]] = defaultdict(list)
        for values in arrivals:
            by_size[values["size_now"]].append(values["path"])
        sizes = list(by_size)
        if not sizes:
            return {}
        with self.database.begin() as session:
            known = set(
                session.scalars(
                    select(Result.size).where(Result.library_id == self.library_id, Result.size.in_(sizes))
                )
            ) | set(
                session.scalars(
                    select(Backup.size).where(Backup.library_id == self.library_id, Backup.size.in_(sizes))
                )
            )
            # A file that stayed as it was has only copies of ours.
            kept = select(File.size_now).where(File.library_id == self.library_id, File.sha256.is_(None))
            known |= set(
                session.scalars(
                    kept.where(File.size_now.in_(sizes), File.id.in_(select(Derived.file_id))).distinct()
                )
            )
        hashes: dict[str, bytes] = {}
        for path in (path for size in known for path in by_size[size]):
            content = self.keeper.store.sha256(path)
            if content is not None:
                hashes[path] = content
        return hashes

    def _results(self, hashes: set[bytes]) -> dict[bytes, Result]:
        if not hashes:
            return {}
        with self.database.begin() as session:
            query = select(Result).where(Result.library_id == self.library_id, Result.sha256.in_(hashes))
            return {row.sha256: row for row in session.scalars(query)}

    def note_original_seen(self, content: bytes) -> None:
        """A backup whose bytes stand in the library is not needed by anybody who lost them."""
        with self.database.begin() as session:
            session.execute(
                update(Backup)
                .where(
                    Backup.library_id == self.library_id, Backup.sha256 == content, Backup.seen_at.is_(None)
                )
                .values(seen_at=func.now())
            )

    def claims(self, content: bytes) -> dict[str, Any] | None:
        """What a file's record says when its bytes are a result of ours; None when they are not."""
        with self.database.begin() as session:
            result = session.scalar(
                select(Result).where(Result.library_id == self.library_id, Result.sha256 == content)
            )
            if result is None:
                return None
            backup = session.scalar(
                select(Backup).where(
                    Backup.library_id == self.library_id, Backup.sha256 == result.original_sha256
                )
            )
        if result.purpose != "file":
            return _left_alone(result)
        values: dict[str, Any] = {
            "state": FileState.LIGHTER,
            "reason": None,
            "sha256": content,
            "treated_at": datetime.now(UTC),
            "before_sha256": backup.sha256 if backup else None,
            **{name: result.made.get(name) for name in _MADE},
        }
        if backup is not None:
            values["size_before"] = backup.size
        return values

    # -- moves --------------------------------------------------------------------------------

    def _moved(self, values: dict[str, Any], content: bytes, findings: Findings, touched: set[int]) -> bool:
        """Whether a record whose own path is free now was given the new path."""
        changing = exists(
            select(1)
            .where(Journal.file_id == File.id, Journal.after_sha256 == content, Journal.action != "discard")
            .correlate(File)
        )
        with self.database.begin() as session:
            files = list(
                session.scalars(
                    select(File)
                    .where(File.library_id == self.library_id, or_(File.sha256 == content, changing))
                    .where(File.state != FileState.REMOVED)  # its conversion stands for it
                    .order_by(File.state == FileState.GONE, File.id)
                )
            )
        return self._move_one_of(files, values, findings, touched)

    def _original_moved(
        self, values: dict[str, Any], content: bytes, findings: Findings, touched: set[int]
    ) -> bool:
        """Whether it is a file that stayed as it was, of which we made copies, under a new name."""
        ours = select(Result.sha256).where(
            Result.library_id == self.library_id, Result.original_sha256 == content, Result.purpose != "file"
        )
        with self.database.begin() as session:
            files = list(
                session.scalars(
                    select(File)
                    .where(File.library_id == self.library_id, File.sha256.is_(None))
                    .where(File.id.in_(select(Derived.file_id).where(Derived.sha256.in_(ours))))
                    .order_by(File.id)
                )
            )
        return self._move_one_of(files, values, findings, touched)

    def _move_one_of(
        self, files: list[File], values: dict[str, Any], findings: Findings, touched: set[int]
    ) -> bool:
        # The same name elsewhere before any other.
        name = values["path"].rpartition("/")[2]
        files.sort(key=lambda file: file.path.rpartition("/")[2] != name)
        path, mtime_ns = values["path"], values["mtime_ns"]
        return any(self._move(file, path, findings, touched, mtime_ns) for file in files)

    def _move(
        self, file: File, path: str, findings: Findings, touched: set[int], mtime_ns: int | None = None
    ) -> bool:
        """Whether the record was given the path; ``mtime_ns`` as it was before the file was hashed."""
        if self.keeper.store.taken(file.path):
            return False
        with self.database.advisory_lock(PICTURE_LOCK, file.picture_id) as free:
            if not free:
                return False
            recover(self.keeper, file.id)  # its name may be free because of a change of ours
            if self.keeper.store.taken(file.path):
                return False
            with self.database.begin() as session:
                row = session.get_one(File, file.id, with_for_update=True)
                taken = session.scalar(
                    select(File.id).where(File.library_id == self.library_id, File.path == path)
                )
                if taken is not None or row.path != file.path:
                    return False
                former = row.path
                row.path, row.folder = path, path.rpartition("/")[0]
                if row.state == FileState.GONE:
                    row.state = FileState.LIGHTER if row.sha256 is not None else FileState.NEW
                picture = session.get_one(Picture, row.picture_id)
                named = select(Picture.id).where(Picture.library_id == self.library_id, Picture.path == path)
                if row.role == FileRole.ORIGINAL and session.scalar(named) is None:
                    picture.path, picture.folder, picture.name = path, row.folder, path.rpartition("/")[2]
                for entry in session.scalars(select(Journal).where(Journal.file_id == row.id)):
                    entry.path = _beside(entry.path, former, path)
                    entry.staged = _beside(entry.staged, former, path)
                session.add(
                    Ledger(
                        library_id=self.library_id,
                        picture_id=row.picture_id,
                        file_id=row.id,
                        action="moved",
                        path=path,
                        detail={"from": former},
                    )
                )
                copies = list(row.derived)
                touched.add(row.picture_id)
            for copy in copies:
                self._move_copy(row, copy, former, path)
            recover(self.keeper, file.id)
            if mtime_ns is not None:
                with self.database.begin() as session:
                    session.execute(update(File).where(File.id == file.id).values(mtime_ns=mtime_ns))
        findings.moved += 1
        return True

    def _move_copy(self, file: File, copy: Derived, former: str, path: str) -> None:
        """A copy that went along keeps its record; one that stayed behind shows nothing any more."""
        wanted = _beside(copy.path, former, path)
        if self.keeper.store.sha256(wanted) == copy.sha256:
            with self.database.begin() as session:
                session.execute(update(Derived).where(Derived.id == copy.id).values(path=wanted))
            return
        self.keeper.drop_derived(file, copy, _MOVED)
        with self.database.begin() as session:
            session.execute(update(File).where(File.id == file.id).values(recipe=None))

    def _has_home(self, path: str, result: Result, findings: Findings, touched: set[int]) -> bool:
        """Whether a copy of ours belongs to a file on record."""
        with self.database.begin() as session:
            if session.scalar(
                select(Derived.id).where(Derived.library_id == self.library_id, Derived.path == path)
            ):
                return True  # its file moved, and it went along
            first = list(
                session.scalars(
                    select(File)
                    .join(Derived, Derived.file_id == File.id)
                    .where(Derived.library_id == self.library_id, Derived.sha256 == result.sha256)
                )
            )
        folder = path.rpartition("/")[0]
        for file in first:  # a conversion that moved stands for its first file, which is nowhere
            name = file.path.rpartition("/")[2]
            if self._move(file, f"{folder}/{name}" if folder else name, findings, touched):
                return True
        if result.purpose == "conversion" and self._revived(path, result, findings, touched):
            return True
        return self._attach(path, result)

    def _revived(self, path: str, result: Result, findings: Findings, touched: set[int]) -> bool:
        """Whether a conversion is back whose first file counted as gone with it, or lost sight of it."""
        with self.database.begin() as session:
            files = list(
                session.scalars(
                    select(File).where(
                        File.library_id == self.library_id,
                        File.before_sha256 == result.original_sha256,
                        File.state.in_([FileState.GONE, FileState.REMOVED]),
                    )
                )
            )
        stem = path.rpartition(".")[0]
        for file in files:
            if not self._move(file, f"{stem}.{file.path.rpartition('.')[2]}", findings, touched):
                continue
            with self.database.begin() as session:
                row = session.get_one(File, file.id)
                row.state, row.size_now = FileState.REMOVED, result.size
                _add_copy(session, row, path, result)
            return True
        return False

    def _attach(self, path: str, result: Result) -> bool:
        """Gives a copy to the file beside it that was made from the same original."""
        between = f".{Purpose.SAVE_DATA}" if result.purpose == Purpose.SAVE_DATA else ""
        base = path.removesuffix(f"{between}.{result.format}")
        if base == path or result.original_sha256 is None:
            return False
        with self.database.begin() as session:
            file = session.scalar(select(File).where(File.library_id == self.library_id, File.path == base))
            if file is None:
                return False
            original = file.before_sha256 or self.keeper.store.sha256(base)
            if original != result.original_sha256:
                return False
            return _add_copy(session, file, path, result)


def _add_copy(session: Session, file: File, path: str, result: Result) -> bool:
    """Whether the file had no copy of that kind, and has this one now."""
    values = {
        "library_id": file.library_id,
        "file_id": file.id,
        "purpose": result.purpose,
        "format": result.format,
        "width": file.width,
        "height": file.height,
        "stands_in": result.purpose != Purpose.SAVE_DATA,
        "path": path,
        "size": result.size,
        "sha256": result.sha256,
        "how": "",
    }
    statement = insert(Derived).values(**values).on_conflict_do_nothing().returning(Derived.id)
    return session.execute(statement).first() is not None


def _beside(name: str, former: str, path: str) -> str:
    """The name of something that stood beside a file, after the file was moved."""
    if not name:
        return name
    if name == former:
        return path
    if name.startswith(f"{former}."):
        return path + name.removeprefix(former)
    folder, here = path.rpartition("/")[0], name.rpartition("/")[2]
    if PurePosixPath(name).stem == PurePosixPath(former).stem:
        here = PurePosixPath(path).stem + PurePosixPath(name).suffix
    return f"{folder}/{here}" if folder else here


def _left_alone(result: Result) -> dict[str, Any]:
    """A copy of ours that somebody uses by itself: making it again would be a second loss."""
    label = FORMATS[result.format].label if result.format in FORMATS else "lighter"
    return {
        "state": FileState.LEFT_ALONE,
        "reason": f"it is a {label} copy that Plum Crate made, so it is not treated again",
        "sha256": result.sha256,
        "before_sha256": None,
        "treated_at": datetime.now(UTC),
        "level": "everyday",
    }
