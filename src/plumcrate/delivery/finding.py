"""From a path to the forms in which its file can be served, by records and by what stands there now.

A copy counts when the file beside it has the size and time that the records say, so that a file which
somebody replaced is never shown by a copy of what it was; and when the copy itself has the size on record.
Nothing is read to know that.
"""

from __future__ import annotations

import threading
import time
from collections import OrderedDict
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass

from plumcrate.contract.pictures import Purpose
from plumcrate.imaging.formats import COPIES, FORMATS
from plumcrate.records.database import Database
from plumcrate.records.queries.delivery import Copy, RecordedFile, Served, known_at, served
from plumcrate.storage.errors import NotThere, StorageError
from plumcrate.storage.local import LocalStore
from plumcrate.storage.names import fault_of, is_ours
from plumcrate.storage.store import FileFacts, Folder, Store

#: How a library is served is asked for again after so many seconds. What is on record of a file too, and
#: at once when the file or a copy is not as it was remembered, or when it is told to forget it; so many
#: paths are remembered.
_FRESH, _LASTING, _MOST = 2.0, 600.0, 50_000
#: A file that is not as recorded does not have the record asked for more often than this.
_PAUSE = 0.2
_ENDINGS = {ending: format.name for format in FORMATS.values() for ending in format.endings}
_BY_TYPE = {format.media_type: format for format in FORMATS.values()}
_TROUBLE = ("no-permission", "storage-error", "disk-error")
_BYTES = "application/octet-stream"


@dataclass(frozen=True, slots=True)
class ServedForm:
    """One form of a file. ``tag`` is a strong entity tag; ``own``: it is the file itself; ``leaner``:
    only for who asks for less data."""

    path: str
    media_type: str
    size: int
    mtime_ns: int
    tag: str
    own: bool
    leaner: bool = False

    @property
    def format(self) -> str:
        """The format's name; ``other`` for one that is not known here."""
        known = _BY_TYPE.get(self.media_type)
        return known.name if known is not None else "other"

    @property
    def shown(self) -> bool:
        """Whether browsers show it as a picture that cannot run anything."""
        known = _BY_TYPE.get(self.media_type)
        return known is not None and known.shown


@dataclass(frozen=True, slots=True)
class Found:
    """A file's forms, the file itself first; ``missing``: a copy on record is not there as it should be;
    ``changed``: the file is not as recorded."""

    folder: Folder
    library: Served
    forms: tuple[ServedForm, ...]
    content: str
    missing: bool = False
    changed: bool = False
    known: RecordedFile | None = None


@dataclass(frozen=True, slots=True)
class MovedAway:
    """The file made way for its conversion, which is at another path; or a person said that another is
    answered; or it was made for a size and was let go, and ``path`` is its picture: then ``wanted`` is its
    number."""

    path: str
    wanted: int | None = None


@dataclass(slots=True)
class _Remembered:
    """``stamps``: the copies that stood there when it was last looked, with their times."""

    at: float
    known: RecordedFile | None
    stamps: tuple[tuple[str, int], ...] | None = None


class Finder:
    """Remembers for a moment what is on record; safe in several threads."""

    def __init__(self, database: Database, *, clock: Callable[[], float] = time.monotonic) -> None:
        self._database, self._clock = database, clock
        self._libraries: dict[str, tuple[float, Served | None, Store | None]] = {}
        self._files: OrderedDict[tuple[int, str], _Remembered] = OrderedDict()
        self._told = 0  # how often it was told to forget
        self._guard = threading.Lock()

    @contextmanager
    def find(self, slug: str, path: str) -> Iterator[Found | MovedAway | None]:
        """What is served under a path; None for nothing, whatever the reason. Its forms can be opened until
        the end. Raises NotThere when the library's folder is away, and StorageError when it cannot be
        read."""
        library, store = self._library(slug)
        if library is None or store is None or not library.settings.public or not _may_be_served(path):
            yield None
            return
        name = path.rpartition("/")[2]
        with ExitStack() as until_done:
            try:
                folder = until_done.enter_context(store.look_into(path.rpartition("/")[0]))
                facts = folder.facts(name)
            except StorageError as error:
                if isinstance(error, NotThere) or error.code in _TROUBLE:
                    raise
                with store.visit():
                    pass  # what is not there in the right place is not there
                known = self._known(library.id, path, anew=True).known
                base = _file_of_copy(path)
                if known is None and base is not None:
                    # A page may go on naming a copy for as long as it is kept somewhere.
                    with self.find(slug, base) as instead:
                        yield instead
                    return
                yield _moved(known)
                return
            remembered = self._known(library.id, path)
            found = _found(folder, library, path, facts, remembered.known)
            stamps = tuple((form.path, form.mtime_ns) for form in found.forms[1:])
            if found.missing or found.changed or remembered.stamps not in (None, stamps):
                remembered = self._known(library.id, path, anew=True)
                found = _found(folder, library, path, facts, remembered.known)
                stamps = tuple((form.path, form.mtime_ns) for form in found.forms[1:])
            remembered.stamps = stamps
            known = remembered.known
            other = known.redirect if known is not None and not found.changed else None
            if other is not None and _is_there(store, other):
                yield MovedAway(other)
                return
            yield found

    def forget(self, what: tuple[int, str] | None) -> None:
        """Asks for a file's record anew the next time, by library and path; None: for every one."""
        with self._guard:
            self._told += 1
            if what is None:
                self._files.clear()
            else:
                self._files.pop(what, None)

    def _library(self, slug: str) -> tuple[Served | None, Store | None]:
        now = self._clock()
        with self._guard:
            remembered = self._libraries.get(slug)
        if remembered is not None and now - remembered[0] < _FRESH:
            return remembered[1:]
        with self._database.begin() as session:
            library = served(session, slug)
        store = LocalStore(library.root, library.identity) if library is not None else None
        if library is not None or remembered is not None:  # made-up names are not remembered
            with self._guard:
                self._libraries[slug] = (now, library, store)
        return library, store

    def _known(self, library_id: int, path: str, *, anew: bool = False) -> _Remembered:
        now, key = self._clock(), (library_id, path)
        with self._guard:
            remembered, told = self._files.get(key), self._told
        if remembered is not None and now - remembered.at < (_PAUSE if anew else _LASTING):
            return remembered
        with self._database.begin() as session:
            remembered = _Remembered(now, known_at(session, library_id, path))
        with self._guard:
            if self._told != told:
                return remembered  # it may have been read before what was told
            self._files[key] = remembered
            self._files.move_to_end(key)
            while len(self._files) > _MOST:
                self._files.popitem(last=False)
        return remembered


def _is_there(store: Store, path: str) -> bool:
    """Whether a file stands under a path: nobody is sent where nothing is."""
    folder, _, name = path.rpartition("/")
    try:
        with store.look_into(folder) as opened:
            opened.facts(name)
    except StorageError:
        return False
    return True


def _file_of_copy(path: str) -> str | None:
    """The path of the file that a copy would stand beside; None where a path is no copy's."""
    base, _, ending = path.rpartition(".")
    base = base.removesuffix(f".{Purpose.SAVE_DATA}")
    if ending.lower() not in COPIES or "." not in base:
        return None
    # Copies are of lighter formats than their file: nobody is led along a.avif.avif.avif from name to name.
    own = _ENDINGS.get(_ending(base))
    heavier = own is not None and own not in COPIES[COPIES.index(ending.lower()) :]
    return base if heavier else None


def _moved(known: RecordedFile | None) -> MovedAway | None:
    if known is None or not known.moved:
        return None
    return MovedAway(known.moved, known.file_id if known.removed_unused else None)


def _may_be_served(path: str) -> bool:
    """A fit path to a picture by its name, no part of it hidden: never the identity file, nothing that is
    staged."""
    if fault_of(path) is not None:
        return False
    parts = path.split("/")
    hidden = any(part.startswith(".") or is_ours(part) for part in parts)
    return not hidden and _ending(path) in _ENDINGS


def _ending(path: str) -> str:
    return "." + path.rpartition("/")[2].rpartition(".")[2].lower()


def _is(known: RecordedFile, facts: FileFacts) -> bool:
    """Whether what stands there is what is on record; of a derived file the size is all there is."""
    return known.size == facts.size and known.mtime_ns in (0, facts.mtime_ns)


def _found(folder: Folder, library: Served, path: str, facts: FileFacts, known: RecordedFile | None) -> Found:
    if known is None or not _is(known, facts):
        return _as_it_is(folder, library, path, facts, known)
    return _with_copies(folder, library, path, facts, known)


def _as_it_is(
    folder: Folder, library: Served, path: str, facts: FileFacts, known: RecordedFile | None
) -> Found:
    """A file that is not, or not so, on record: by its name alone, and without copies."""
    media_type = FORMATS[_ENDINGS[_ending(path)]].media_type
    own = _own(path, media_type, facts, None)
    return Found(folder, library, (own,), own.tag.strip('"'), changed=True, known=known)


def _with_copies(folder: Folder, library: Served, path: str, facts: FileFacts, known: RecordedFile) -> Found:
    media_type = FORMATS[known.format].media_type if known.format in FORMATS else _BYTES
    own = _own(path, media_type, facts, known.sha256)
    forms = [own]
    for copy in (*known.copies, *known.leaner):
        form = _form_of(folder, copy, leaner=copy in known.leaner)
        if form is not None:
            forms.append(form)
    forms[1:] = sorted(forms[1:], key=lambda form: form.size)
    return Found(
        folder,
        library,
        tuple(forms),
        own.tag.strip('"'),
        missing=len(forms) <= len(known.copies) + len(known.leaner),
        known=known,
    )


def _own(path: str, media_type: str, facts: FileFacts, sha256: bytes | None) -> ServedForm:
    """The file itself: by its hash where it is known, else by what tells it from others as it is now."""
    tag = sha256.hex()[:32] if sha256 is not None else f"{facts.size:x}-{facts.mtime_ns:x}-{facts.identity}"
    return ServedForm(path, media_type, facts.size, facts.mtime_ns, f'"{tag}"', own=True)


def _form_of(folder: Folder, copy: Copy, *, leaner: bool) -> ServedForm | None:
    """A copy, when it stands beside its file as recorded."""
    if copy.format not in COPIES:
        return None
    try:
        facts = folder.facts(copy.path.rpartition("/")[2])
    except StorageError:
        return None
    if facts.size != copy.size:
        return None
    media_type = FORMATS[copy.format].media_type
    return ServedForm(
        copy.path,
        media_type,
        facts.size,
        facts.mtime_ns,
        f'"{copy.sha256.hex()[:32]}"',
        own=False,
        leaner=leaner,
    )
