"""A store in memory for tests: with strangers who write, volumes that go away, full disks and kills.

``between`` is called before and after each step that changes something, with its name; it may raise
whatever a test wants to happen there, or change ``nodes`` as a stranger would.
"""

from __future__ import annotations

import io
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from itertools import count
from typing import BinaryIO

from .errors import NotThere, StorageError
from .names import IDENTITY_NAME, checked, is_ours
from .store import HALF_SWAPPED, FileFacts, ListedFile, Listing, Skipped, Store, Writers, require_hidden

_ticks = count(1)


@dataclass(slots=True)
class Node:
    """One file; names may share it. ``kind`` is file, folder, link or pipe."""

    data: bytes = b""
    kind: str = "file"
    mtime_ns: int = field(default_factory=lambda: next(_ticks))
    writers: int = 0

    def write(self, data: bytes) -> None:
        """What a program does that has the file open."""
        self.data, self.mtime_ns = data, next(_ticks)


class MemoryStore(Store):
    """``nodes`` are the files by path; folders are there by being in paths, or as nodes of that kind.

    ``mounted`` false: the mount point, an empty folder, is all there is.
    """

    def __init__(self, label: str = "memory", identity: str | None = None) -> None:
        self.label, self.identity = label, identity
        self.nodes: dict[str, Node] = {}
        self.mounted = True
        self.visits = 0  # as long as somebody is there, a volume is busy and cannot go away
        self.exchanges = True
        self.leases = True
        self.between: Callable[[str], None] = lambda _: None
        #: The numbers of folders that were moved, by their present path.
        self.folder_numbers: dict[str, str] = {}
        self._empty: dict[str, Node] = {}

    def move_folder(self, folder: str, to: str) -> None:
        """What ``mv`` does: every file below goes along, hidden ones too, and the folder stays itself."""
        for path in [path for path in self.nodes if path.startswith(f"{folder}/")]:
            self.nodes[to + path.removeprefix(folder)] = self.nodes.pop(path)
        self.folder_numbers[to] = self.folder_numbers.pop(folder, folder)

    @property
    def _seen(self) -> dict[str, Node]:
        return self.nodes if self.mounted else self._empty

    # -- identity ----------------------------------------------------------------------------

    @contextmanager
    def visit(self) -> Iterator[None]:
        self._enter()
        self.visits += 1
        try:
            yield
        finally:
            self.visits -= 1

    def _enter(self) -> None:
        if self.identity is not None and self.read_identity() != self.identity:
            raise NotThere(f"{self.label} does not hold this library's identity file")

    def read_identity(self) -> str | None:
        node = self._seen.get(IDENTITY_NAME)
        return None if node is None else node.data.decode()

    def write_identity(self, identity: str) -> None:
        if self.read_identity() not in (None, identity):
            raise StorageError("other-identity", f"{self.label} holds another identity file")
        self._step("identity")
        self._seen[IDENTITY_NAME] = Node(identity.encode())
        self.identity = identity
        self._step("identified")

    def remove_identity(self) -> None:
        self._enter()
        self._seen.pop(IDENTITY_NAME, None)
        self.identity = None

    def device(self) -> str:
        return "volume" if self.mounted else "mount point"

    def folder_id(self, path: str) -> str | None:
        self._enter()
        folder = path.rpartition("/")[0]
        if folder and not any(name.startswith(f"{folder}/") for name in self._seen):
            return None
        return f"{self.device()}:{self.folder_numbers.get(folder, folder)}"

    # -- looking -----------------------------------------------------------------------------

    def list(self, folder: str = "") -> Listing:
        self._enter()
        listing, prefix = Listing(), f"{folder}/" if folder else ""
        folders: set[str] = set()
        for path, node in sorted(self._seen.items()):
            if not path.startswith(prefix):
                continue
            name, below, _ = path.removeprefix(prefix).partition("/")
            if name.startswith("."):
                continue
            if below or node.kind == "folder":
                folders.add(prefix + name)
            elif node.kind == "file":
                listing.files.append(ListedFile(path, len(node.data), node.mtime_ns))
            else:
                listing.skipped.append(Skipped(path, f"a {node.kind}"))
        listing.folders = sorted(folders)
        return listing

    def facts(self, path: str) -> FileFacts:
        node = self._node(path)
        links = sum(other is node for other in self._seen.values())
        return FileFacts(len(node.data), node.mtime_ns, links, identity=f"{id(node):x}-{node.mtime_ns:x}")

    def open(self, path: str) -> BinaryIO:
        return io.BytesIO(self._node(path).data)

    @contextmanager
    def look_into(self, folder: str) -> Iterator[_Folder]:
        self._enter()
        yield _Folder(self, f"{folder}/" if folder else "")

    def taken(self, path: str) -> bool:
        self._enter()
        return path in self._seen or any(name.startswith(f"{path}/") for name in self._seen)

    def strays(self) -> Iterator[str]:
        self._enter()
        for path in sorted(self._seen):
            name = path.rpartition("/")[2]
            if is_ours(name) and name != IDENTITY_NAME:
                yield path

    def room(self) -> int:
        return 10**12

    def _node(self, path: str) -> Node:
        checked(path)
        self._enter()
        node = self._seen.get(path)
        if node is None and not any(name.startswith(f"{path}/") for name in self._seen):
            raise StorageError("gone", f"{path} is not there any more")
        if node is None or node.kind != "file":
            code = "symbolic-link" if node is not None and node.kind == "link" else "not-a-file"
            raise StorageError(code, f"{path} is not a regular file, so it is left alone")
        return node

    # -- changing ----------------------------------------------------------------------------

    def _step(self, name: str) -> None:
        self.between(name)

    def stage(
        self, hidden: str, data: bytes | BinaryIO, like: str | None = None, *, keep_times: bool = False
    ) -> None:
        require_hidden(hidden)
        if not isinstance(data, bytes):
            data.seek(0)
            data = data.read()
        model = None if like is None else self._node(like)
        self._enter()
        self._step("stage")
        self._seen[hidden] = node = Node(data[: len(data) // 2])
        self._step("staging")
        node.data = data
        if model is not None and keep_times:
            node.mtime_ns = model.mtime_ns
        self._step("staged")

    def swap(self, path: str, hidden: str) -> None:
        require_hidden(hidden)
        self._enter()
        self._step("swap")
        seen = self._seen
        if path not in seen or hidden not in seen:
            raise StorageError("gone", f"{path} is not there any more")
        if self.exchanges:
            seen[path], seen[hidden] = seen[hidden], seen[path]
        else:
            seen[hidden + HALF_SWAPPED] = seen[path]
            self._step("linked")
            last = self._taken_from(path)
            seen[path] = self._taken_from(hidden)
            self._step("half swapped")
            kept = self._taken_from(hidden + HALF_SWAPPED)
            seen[hidden] = kept if last is kept else Node(last.data)
        self._step("swapped")

    def can_exchange(self, hidden: str, other: str) -> bool:
        return self.exchanges

    def _taken_from(self, name: str) -> Node:
        if name not in self._seen:
            raise StorageError("gone", f"{name} is not there any more")
        return self._seen.pop(name)

    def half_swapped(self, path: str, hidden: str) -> str | None:
        self._enter()
        seen, aside = self._seen, hidden + HALF_SWAPPED
        if aside not in seen:
            return None
        if hidden not in seen:
            seen[hidden] = seen.pop(aside)
            return None
        if seen.get(path) is seen[aside]:
            del seen[aside]
            return None
        return aside

    def create(self, hidden: str, path: str) -> bool:
        return self._rename(require_hidden(hidden), checked(path), "create")

    def withdraw(self, path: str, hidden: str) -> bool:
        return self._rename(checked(path), require_hidden(hidden), "withdraw")

    def _rename(self, path: str, free: str, step: str) -> bool:
        self._enter()
        self._step(step)
        if path not in self._seen:
            raise StorageError("gone", f"{path} is not there any more")
        if self.taken(free):
            return False
        self._seen[free] = self._seen.pop(path)
        self._step(f"{step} done")
        return True

    def writers(self, hidden: str) -> Writers:
        node = self._node(require_hidden(hidden))
        if not self.leases:
            return Writers.UNKNOWN
        return Writers.SOME if node.writers else Writers.NONE

    def discard(self, hidden: str) -> None:
        require_hidden(hidden)
        self._enter()
        self._step("discard")
        self._seen.pop(hidden, None)
        self._step("discarded")

    def make_folder(self, folder: str) -> None:
        self._enter()

    def set_mtime(self, path: str, mtime_ns: int) -> None:
        self._node(path).mtime_ns = mtime_ns


class _Folder:
    """A folder by the beginning of its paths."""

    def __init__(self, store: MemoryStore, prefix: str) -> None:
        self._store, self._prefix = store, prefix

    def facts(self, name: str) -> FileFacts:
        return self._store.facts(self._prefix + name)

    def open(self, name: str) -> BinaryIO:
        return self._store.open(self._prefix + name)
