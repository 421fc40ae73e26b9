"""The service's own state, saved to a folder and brought back: records and backups together.

Saving goes on beside the work. What is in the store is copied first, then the records as they are at one
moment, then what came into the store meanwhile: since a backup is durable before anything is changed, every
original that the saved records know of is in the saved store. Backups are kept by their hash, so that saving
into the same folder again copies only what is new. ``saved.json`` is written last, and names the records
that count.

Bringing back copies and verifies the store, gives the state folder its identity file, and puts the records in
as one transaction, which is the moment from which it counts: what is cut short before is begun again.
"""

from __future__ import annotations

import hashlib
import json
import os
import re
import secrets
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path

from sqlalchemy import delete, inspect, select, text

from plumcrate import __version__
from plumcrate.keeping.backups import sync_folder
from plumcrate.keeping.state import UNDER_WAY
from plumcrate.records.database import Database
from plumcrate.records.tables import Backup, Installation, Library, Session, WorkerRow
from plumcrate.storage.local import identity_of, write_identity

from . import tools
from .records import CannotStart

_MANIFEST, _RECORDS, _KEY = "saved.json", "records", "seal.key"
_DUMP_NAME = re.compile(r"[0-9A-Za-z-]{1,80}\.dump", re.ASCII)
#: So many dumps of the records are kept.
_KEPT = 5
_PIECE = 1 << 20

Say = Callable[[str], None]


@dataclass
class SavedState:
    """What was saved or brought back. ``damaged``: files whose bytes do not fit their name; ``missing``:
    backups on record that are not there."""

    records: str = ""
    backups: int = 0
    copied: int = 0
    bytes: int = 0
    damaged: list[str] = field(default_factory=list)
    missing: list[str] = field(default_factory=list)


def save(database: Database, state_dir: Path, folder: Path, say: Say) -> SavedState:
    """Saves into a folder, beside the work. Raises :class:`CannotStart`, OtherVersion, OSError."""
    folder = folder.resolve()
    database.check_version()
    with database.begin() as session:
        if not inspect(session.connection()).has_table("installation"):
            raise CannotStart("there is nothing to save yet: the service has never been started")
        identity = session.scalar(select(Installation.state_identity))
        inside = [state_dir.resolve(), *(Path(root) for root in session.scalars(select(Library.root)))]
    for place in inside:
        if folder.is_relative_to(place):
            raise CannotStart(f"{folder} lies in {place}: choose a folder outside of it")
    if identity is None or _identity(state_dir) != identity:
        raise CannotStart(
            f"the state folder {state_dir} does not hold our identity file: is its volume mounted?"
        )
    (folder / _RECORDS).mkdir(parents=True, exist_ok=True, mode=0o700)
    former = _manifest(folder)
    if former is not None and former["identity"] != identity:
        raise CannotStart(f"{folder} holds the state of another installation: choose another folder")
    report = SavedState()
    say("copying the store …")
    _copy_store(state_dir / "backups", folder / "backups", report)
    say("copying the records …")
    report.records = f"{datetime.now(UTC):%Y-%m-%dT%H%M%S}-{secrets.token_hex(3)}.dump"
    unfinished = folder / _RECORDS / f".{report.records}"
    os.close(os.open(unfinished, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600))  # hashes of passwords
    tools.dump(database.url, unfinished)
    _sync(unfinished)
    unfinished.rename(folder / _RECORDS / report.records)
    sync_folder(folder / _RECORDS)
    say("copying what came meanwhile …")
    report.backups = 0
    _copy_store(state_dir / "backups", folder / "backups", report)
    if (state_dir / _KEY).exists():
        _copy(state_dir / _KEY, folder / _KEY)
    manifest = {
        "identity": identity,
        "records": report.records,
        "backups": report.backups,
        "version": __version__,
        "saved_at": datetime.now(UTC).isoformat(timespec="seconds"),
    }
    _write(folder / _MANIFEST, json.dumps(manifest, indent=2).encode())
    for old in sorted((folder / _RECORDS).glob("*.dump"))[:-_KEPT]:
        old.unlink()
    return report


def bring_back(database: Database, state_dir: Path, folder: Path, say: Say) -> SavedState:
    """Into an empty database and an empty state folder. Raises :class:`CannotStart`, OSError."""
    manifest = _manifest(folder)
    if manifest is None:
        raise CannotStart(f"{folder} holds no saved state: there is no {_MANIFEST} in it")
    dumped = folder / _RECORDS / manifest["records"]
    if dumped.is_symlink() or not dumped.is_file():
        raise CannotStart(f"{dumped} is not there, though {_MANIFEST} names it")
    open_one = state_dir / UNDER_WAY
    with database.begin() as session:
        there = inspect(session.connection()).get_table_names()
    if there and not _goes_on(database, open_one, manifest):
        raise CannotStart("the database holds tables already: bring back into an empty one")
    state_dir.mkdir(parents=True, exist_ok=True)
    borne = identity_of(state_dir)
    if borne not in (None, manifest["identity"]):
        raise CannotStart(f"{state_dir} belongs to another installation: give this one a folder of its own")
    report = SavedState(records=str(manifest["records"]))
    say("bringing back the store …")
    _copy_store(folder / "backups", state_dir / "backups", report)
    if (folder / _KEY).exists() and not (state_dir / _KEY).exists():
        _copy(folder / _KEY, state_dir / _KEY)
        (state_dir / _KEY).chmod(0o600)
    if borne is None:
        write_identity(state_dir, manifest["identity"])
    if not there:
        say("bringing back the records …")
        _write(open_one, manifest["records"].encode())
        tools.restore(database.url, dumped)
    database.migrate()
    with database.begin() as session:
        # Whoever was signed in signs in again, and no worker of then is alive.
        session.execute(delete(Session))
        session.execute(delete(WorkerRow))
        session.execute(text("UPDATE installation SET identified_at = coalesce(identified_at, now())"))
        rows = session.execute(
            select(Library.slug, Backup.sha256, Backup.path)
            .join(Library, Library.id == Backup.library_id)
            .where(Backup.pruned_at.is_(None))
        )
        for slug, sha256, path in rows:
            digits = sha256.hex()
            if not (state_dir / "backups" / slug / digits[:2] / digits).is_file():
                report.missing.append(f"{slug}: {path or digits[:12]}")
    open_one.unlink(missing_ok=True)
    return report


def _goes_on(database: Database, open_one: Path, manifest: dict[str, str]) -> bool:
    """Whether the tables that are there came from a bringing back of the same records that was cut short."""
    try:
        begun = open_one.read_text()
    except OSError:
        return False
    if begun != manifest["records"]:
        return False
    with database.begin() as session:
        identities = session.execute(text("SELECT state_identity FROM installation")).scalars().all()
    return identities == [manifest["identity"]]


def _identity(folder: Path) -> str | None:
    try:
        return identity_of(folder)
    except OSError:
        return None


def _manifest(folder: Path) -> dict[str, str] | None:
    """What was saved; nothing in it is believed that could lead out of the folder."""
    try:
        found = json.loads((folder / _MANIFEST).read_text())
    except FileNotFoundError:
        return None
    except (OSError, ValueError) as error:
        raise CannotStart(f"{folder / _MANIFEST} cannot be read: {error}") from None
    fit = isinstance(found, dict) and all(
        isinstance(found.get(name), str) for name in ("identity", "records")
    )
    if not fit or not _DUMP_NAME.fullmatch(found["records"]):
        raise CannotStart(f"{folder / _MANIFEST} was not written by plumcrate save")
    return {name: str(value) for name, value in found.items()}


def _copy_store(source: Path, target: Path, report: SavedState) -> None:
    """Every backup that is not there yet; bytes that do not fit their name are not copied."""
    for place in _stored(source):
        relative = place.relative_to(source)
        to = target / relative
        try:
            if to.exists() and to.stat().st_size == place.stat().st_size:
                report.backups += 1
                continue
            to.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            size = _copy(place, to, place.name)
        except FileNotFoundError:
            continue  # pruned meanwhile
        if size is None:
            if str(relative) not in report.damaged:
                report.damaged.append(str(relative))
            continue
        report.backups += 1
        report.copied += 1
        report.bytes += size


def _stored(store: Path) -> Iterator[Path]:
    """Library by library, without what is being written."""
    for place in sorted(store.glob("*/??/*")):
        if len(place.name) == 64 and place.is_file():
            yield place


def _copy(source: Path, target: Path, digits: str | None = None) -> int | None:
    """Copies a file durably; its size. None when its bytes do not have the hash ``digits``."""
    staged = target.with_name(f".{secrets.token_hex(8)}")
    hashed, size = hashlib.sha256(), 0
    try:
        with (
            open(source, "rb") as read,
            open(os.open(staged, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as written,
        ):
            while piece := read.read(_PIECE):
                hashed.update(piece)
                written.write(piece)
                size += len(piece)
            written.flush()
            os.fsync(written.fileno())
        if digits is not None and hashed.hexdigest() != digits:
            return None
        staged.rename(target)
        sync_folder(target.parent)
    finally:
        staged.unlink(missing_ok=True)
    return size


def _write(place: Path, data: bytes) -> None:
    staged = place.with_name(f".{secrets.token_hex(8)}")
    with open(os.open(staged, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as file:
        file.write(data)
    _sync(staged)
    staged.rename(place)
    sync_folder(place.parent)


def _sync(place: Path) -> None:
    with open(place, "rb") as file:
        os.fsync(file.fileno())
