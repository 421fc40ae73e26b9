"""The same picture again: what was made of its bytes elsewhere in the library is made of them here, without
treating them.

Libraries hold many a picture twice. One whose original has the same bytes as another's, under the same
settings and by the same core, would come out the same to the byte: so its results are read where they stand,
proven by their digests, and written here too. Nothing is kept for this but what the records hold anyway.
"""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, cast

from sqlalchemy import select

from plumcrate.contract.pictures import FileState
from plumcrate.imaging.outcome import Chosen, Output, Refused, Role, WorstPlace
from plumcrate.imaging.version import core_version
from plumcrate.keeping.keeper import Keeper
from plumcrate.records.tables import Derived, File, Result
from plumcrate.storage.errors import StorageError

if TYPE_CHECKING:
    from plumcrate.imaging import Recipe

#: So many files with the same original are looked at.
_MOST = 3


@dataclass(frozen=True, slots=True)
class TreatedOutputs:
    """What a treatment, or a duplicate, gives: outputs, and width and height of what goes beside the file."""

    outputs: tuple[Output, ...]
    shown_size: tuple[int, int]

    @property
    def main(self) -> Output:
        """The output for the file itself."""
        return next(output for output in self.outputs if output.role == "file")

    @property
    def beside(self) -> tuple[Chosen, ...]:
        """Copies and conversions that are to be written."""
        return tuple(one for one in self.outputs if isinstance(one, Chosen) and one.role != "file")


def made_of_duplicate(
    keeper: Keeper, file: File, source: bytes, recipe: Recipe, key: dict[str, Any]
) -> TreatedOutputs | None:
    """What was made of the same original elsewhere, under the same settings; None where there is nothing, or
    not all of it stands as recorded."""
    original = hashlib.sha256(source).digest()
    mine = File.library_id == file.library_id, File.before_sha256 == original, File.id != file.id
    with keeper.database.reading() as session:
        duplicates = session.execute(
            select(File, Result.made)
            .join(Result, (Result.library_id == File.library_id) & (Result.sha256 == File.sha256))
            .where(*mine, File.state == FileState.LIGHTER, File.recipe == key)
            .where(Result.made["core"].as_string() == core_version())
            .order_by(File.id)
            .limit(_MOST)
        ).all()
    for duplicate, made in duplicates:
        found = _read(keeper, duplicate, made, recipe)
        if found is not None:
            return found
    return None


def _read(keeper: Keeper, duplicate: File, made: dict[str, Any], recipe: Recipe) -> TreatedOutputs | None:
    try:
        data = _bytes(keeper, duplicate.path, duplicate.sha256)
        beside = [(derived, _bytes(keeper, derived.path, derived.sha256)) for derived in duplicate.derived]
    except StorageError:
        return None
    if data is None or any(content is None for _, content in beside):
        return None
    outputs: list[Output] = [
        Chosen(
            format=duplicate.format or "",
            data=data,
            size=len(data),
            score=made["score"],
            how=made["how"],
            worst_place=_worst_place(duplicate.worst_place),
        )
    ]
    outputs += [_output(derived, content) for derived, content in beside if content is not None]
    there = {(output.role, output.format) for output in outputs}
    outputs += [
        Refused(format=kind, role="copy", verdict="not-for-its-duplicate")
        for kind in sorted(recipe.copies)
        if ("copy", kind) not in there and kind != duplicate.format
    ]
    size = next(((derived.width, derived.height) for derived, _ in beside), duplicate.shown)
    return TreatedOutputs(tuple(outputs), size)


def _output(derived: Derived, data: bytes) -> Chosen:
    return Chosen(
        format=derived.format,
        role=cast(Role, derived.purpose),
        data=data,
        size=len(data),
        score=derived.score,
        how=derived.how,
        worst_place=_worst_place(derived.worst_place),
    )


def _bytes(keeper: Keeper, path: str, sha256: bytes | None) -> bytes | None:
    """A file's bytes when they are the recorded ones."""
    data = keeper.store.read(path)
    return data if hashlib.sha256(data).digest() == sha256 else None


def _worst_place(values: dict[str, Any] | None) -> WorstPlace | None:
    return None if values is None else WorstPlace(**values | {"lost": bytes.fromhex(values["lost"])})
