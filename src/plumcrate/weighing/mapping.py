"""Whose picture an address is: by where the site serves a library's folder, where pages fetch copies, and
where this service serves them itself."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from sqlalchemy import select
from sqlalchemy.orm import Session

from plumcrate.contract.delivery import Delivery
from plumcrate.contract.pictures import FileState
from plumcrate.imaging.formats import COPIES
from plumcrate.markup.addresses import Addresses
from plumcrate.records.tables import Derived, File, Library


@dataclass(frozen=True, slots=True)
class Mapped:
    """A file of a library. ``form``: which of its forms the address names: ``file``, ``copy`` or
    ``conversion``; ``format``: of a copy that is named. ``path`` is the address's own."""

    library_id: int
    slug: str
    file: File
    form: str
    format: str | None
    path: str


class Mapper:
    """Maps addresses of one page. ``service``: where this service itself serves, if that is known."""

    def __init__(self, libraries: Iterable[Library], page: str, service: str | None = None) -> None:
        self._homes: list[tuple[Library, Addresses]] = []
        for library in libraries:
            delivery = Delivery.model_validate(library.delivery)
            homes = [delivery.address, delivery.base]
            if service is not None:
                homes.append(f"{service.rstrip('/')}/media/{library.slug}")
            self._homes += [(library, Addresses(page, home)) for home in homes if home]

    def place(self, address: str) -> tuple[Library, str] | None:
        """The library and the path in it; None for what is in none."""
        for library, addresses in self._homes:
            place = addresses.place(address)
            if place is not None:
                return library, place.path
        return None

    def of(self, session: Session, addresses: Sequence[str]) -> dict[str, Mapped]:
        """What is on record of each address that lies in a library."""
        places = {address: place for address in addresses if (place := self.place(address)) is not None}
        found: dict[str, Mapped] = {}
        for library in {library.id: library for library, _ in places.values()}.values():
            paths = {path for owner, path in places.values() if owner.id == library.id}
            known = _on_record(session, library, paths)
            for address, (owner, path) in places.items():
                if owner.id == library.id and path in known:
                    found[address] = known[path]
        return found


def _on_record(session: Session, library: Library, paths: set[str]) -> dict[str, Mapped]:
    """Files by their own path, by that of something derived, or by that which a copy would have."""
    beside = {path: path.rpartition(".")[0] for path in paths if path.rpartition(".")[2] in COPIES}
    asked = paths | set(beside.values())
    there = File.state != FileState.GONE
    files = {
        file.path: file
        for file in session.scalars(
            select(File).where(File.library_id == library.id, File.path.in_(asked), there)
        )
    }
    derived = {
        row.path: row
        for row in session.scalars(
            select(Derived).where(Derived.library_id == library.id, Derived.path.in_(paths))
        )
    }
    found: dict[str, Mapped] = {}
    for path in paths:
        if path in derived:
            row = derived[path]
            found[path] = Mapped(library.id, library.slug, row.file, row.purpose, row.format, path)
        elif path in files:
            found[path] = Mapped(library.id, library.slug, files[path], "file", None, path)
        elif path in beside and beside[path] in files:
            kind = path.rpartition(".")[2]
            found[path] = Mapped(library.id, library.slug, files[beside[path]], "copy", kind, path)
    return found
