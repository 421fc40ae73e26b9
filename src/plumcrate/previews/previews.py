"""Small pictures for lists: made from the smallest file that suffices, ahead of being asked for, bounded on
disk."""

from __future__ import annotations

import asyncio
import contextlib
import hashlib
import secrets
import shutil
import threading
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

import structlog
from sqlalchemy import case, select
from sqlalchemy.orm import Session

from plumcrate.contract.pictures import FileState
from plumcrate.imaging import ImagingError
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.state import StateFolder
from plumcrate.keeping.versions import NOW, version_of
from plumcrate.records.database import Database
from plumcrate.records.tables import File, Library
from plumcrate.sandbox.children import Sandbox, SandboxError
from plumcrate.settings import Settings
from plumcrate.storage.errors import StorageError

log = structlog.get_logger()

#: The width that lists show, for which previews are made ahead.
USUAL_WIDTH = 400
#: A rendition stands for its original when its proportions are so near.
_SAME_SHAPE = 0.02
#: After so many previews it is looked how much room they take; then so much of it stays.
_LOOK_EVERY, _STAYS = 200, 0.8
#: So long is waited for one, in seconds.
_LONGEST = 60.0
#: So many are made ahead at a time; what is asked for beyond waits for being asked again.
_MOST_AHEAD = 200


class CannotShow(Exception):
    """There is no preview of a file; the text says why."""


@dataclass(frozen=True, slots=True)
class PreviewSource:
    """What a preview is made from: a path, its bytes and their number, and where the preview is kept under
    which tag."""

    path: str
    size: int
    tag: str
    place: Path
    read: Callable[[], bytes]


class Previews:
    """The previews of one service. ``most_bytes``: larger files are not shown; ``room``: bytes on disk."""

    def __init__(
        self,
        database: Database,
        state: StateFolder,
        sandbox: Sandbox,
        *,
        most_bytes: int,
        room: int,
        threads: int,
    ) -> None:
        self._database, self._state, self._sandbox = database, state, sandbox
        self._most_bytes, self._room = most_bytes, room
        self._pool = ThreadPoolExecutor(threads, thread_name_prefix="preview")
        self._making: dict[Path, Future[bytes]] = {}
        self._ahead: set[int] = set()  # that wait for their turn
        self._guard = threading.Lock()
        self._made = 0

    @classmethod
    @contextlib.contextmanager
    def lent(
        cls, database: Database, state: StateFolder, sandbox: Sandbox, settings: Settings
    ) -> Iterator[Previews]:
        """Previews for one piece of work."""
        previews = cls(
            database,
            state,
            sandbox,
            most_bytes=settings.most_bytes,
            room=settings.previews_mb * 1_000_000,
            threads=1,
        )
        try:
            yield previews
        finally:
            previews.close()

    @property
    def folder(self) -> Path:
        return self._state.path / "previews"

    def source(self, file_id: int, width: int, version: str = NOW) -> PreviewSource | None:
        """What a preview of a version of a file would be made from; None when there is no such file. Raises
        NoVersion."""
        with self._database.begin() as session:
            file = session.get(File, file_id)
            if file is None:
                return None
            library = session.get_one(Library, file.library_id)
            if version != NOW:
                return self._source_of(session, library, file, version, width)
            others = list(
                session.scalars(
                    select(File)
                    .where(
                        File.picture_id == file.picture_id, File.format == file.format, File.width >= width
                    )
                    .where(File.state.not_in([FileState.GONE, FileState.REMOVED, FileState.UNREADABLE]))
                    .order_by(File.width * File.height, case((File.id == file_id, 0), else_=1))
                )
            )
        keeper = Keeper.of(self._database, library, self._state)
        path, size, content = file.path, file.size_now, f"{file.mtime_ns}:{file.size_now}"
        conversion = file.conversion
        if file.state == FileState.REMOVED and conversion is not None:
            path, size, content = conversion.path, conversion.size, conversion.sha256.hex()
        else:
            # A rendition may have been deleted since the last survey.
            there = (one for one in others if _shows_the_same(one, file) and _stands(keeper, one))
            small = next(there, None)
            if small is not None:
                path, size, content = small.path, small.size_now, f"{small.mtime_ns}:{small.size_now}"
        tag, place = self._place(library, f"{library.id}:{file.id}:{path}:{content}:{width}")
        return PreviewSource(path, size, tag, place, lambda: keeper.store.read(path))

    def _source_of(
        self, session: Session, library: Library, file: File, version: str, width: int
    ) -> PreviewSource:
        found = version_of(Keeper.of(self._database, library, self._state), file, version)
        tag, place = self._place(library, f"{library.id}:{file.id}:{found.tag}:{width}")

        def read() -> bytes:
            with found.open() as opened:
                return opened.read()

        return PreviewSource(found.path, found.size, tag, place, read)

    def _place(self, library: Library, content: str) -> tuple[str, Path]:
        """Under which tag a preview is known, and where it is kept."""
        tag = hashlib.sha256(content.encode()).hexdigest()[:32]
        return tag, self.folder / library.slug / tag[:2] / f"{tag}.webp"

    def at_once(self, file_id: int, width: int) -> bytes | None:
        """A preview as :meth:`bytes_of` has it; None where there is none. Blocks while it is made."""
        source = self.source(file_id, width)
        if source is None:
            return None
        try:
            return source.place.read_bytes()
        except OSError:
            pass
        try:
            return self._begin(source, width).result(_LONGEST)
        except (CannotShow, StorageError, TimeoutError):
            return None

    async def bytes_of(self, source: PreviewSource, width: int) -> bytes:
        """A preview, WebP, upright; made when it is not there. Raises :class:`CannotShow` and
        StorageError."""
        try:
            return await asyncio.to_thread(source.place.read_bytes)
        except OSError:
            return await asyncio.wrap_future(self._begin(source, width))

    def ahead(self, file_ids: Iterable[int]) -> None:
        """Begins to make previews that will be asked for next. Returns at once."""
        for file_id in file_ids:
            with self._guard:
                if len(self._ahead) >= _MOST_AHEAD:
                    return
                if file_id in self._ahead:
                    continue
                self._ahead.add(file_id)
            self._pool.submit(self._make_ahead, file_id)

    def _make_ahead(self, file_id: int) -> None:
        with self._guard:
            self._ahead.discard(file_id)
        try:
            source = self.source(file_id, USUAL_WIDTH)
            if source is not None and not source.place.exists():
                self._make(source, USUAL_WIDTH)
        except (CannotShow, StorageError):
            pass  # whoever asks for it is told
        except Exception:
            log.exception("a preview could not be made ahead", file=file_id)

    def _begin(self, source: PreviewSource, width: int) -> Future[bytes]:
        """The making of a preview: the one under way, when there is one."""
        with self._guard:
            under_way = self._making.get(source.place)
            if under_way is None:
                under_way = self._making[source.place] = self._pool.submit(self._make, source, width)
                under_way.add_done_callback(lambda _: self._making.pop(source.place, None))
            return under_way

    def _make(self, source: PreviewSource, width: int) -> bytes:
        if source.place.exists():
            return source.place.read_bytes()
        if source.size > self._most_bytes:
            raise CannotShow(f"{source.path} is too large to be shown small")
        data = source.read()
        try:
            small = self._sandbox.preview(data, width)
        except (ImagingError, SandboxError) as error:
            raise CannotShow(str(error)) from None
        try:
            source.place.parent.mkdir(parents=True, exist_ok=True)
            staged = source.place.with_suffix(f".{secrets.token_hex(6)}")
            staged.write_bytes(small)
            staged.replace(source.place)
        except OSError as error:  # a full disk costs the preview's second showing, not the first
            log.warning("a preview could not be kept", reason=error.strerror)
        self._made += 1
        if self._made % _LOOK_EVERY == 1:
            self.make_room()
        return small

    def make_room(self) -> int:
        """Deletes the previews that were made longest ago when they take too much room; how many."""
        kept = []
        for place in self.folder.glob("*/*/*"):
            try:
                facts = place.stat()
            except OSError:
                continue
            kept.append((facts.st_mtime, facts.st_size, place))
        total = sum(size for _, size, _ in kept)
        if total <= self._room:
            return 0
        count = 0
        for _, size, place in sorted(kept, key=lambda one: one[0]):
            if total <= self._room * _STAYS:
                break
            place.unlink(missing_ok=True)
            total -= size
            count += 1
        return count

    def forget(self, slug: str) -> None:
        """Deletes all previews of a library that is disconnected."""
        shutil.rmtree(self.folder / slug, ignore_errors=True)

    def close(self) -> None:
        self._pool.shutdown(wait=False, cancel_futures=True)


def _stands(keeper: Keeper, file: File) -> bool:
    try:
        return keeper.store.taken(file.path)
    except StorageError:
        return False


def _shows_the_same(rendition: File, original: File) -> bool:
    """Whether a file has an original's proportions: a crop does not show what it shows."""
    if not (rendition.height and original.height):
        return rendition.id == original.id
    shape = rendition.width / rendition.height / (original.width / original.height)
    return abs(shape - 1) <= _SAME_SHAPE or rendition.id == original.id
