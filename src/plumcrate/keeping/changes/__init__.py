"""The changes that a library's files go through, each a class.

``perform`` does it, ``settle`` finishes or undoes one that was cut off, by hash alone, and ``finish``
records it. What each needs to know after a crash is its payload, in the journal row.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from plumcrate.records.tables import Journal

from .appear import MakeSized, PutBack, Upload, WriteDerived
from .base import Change, ChangeNote, Settled
from .exchange import InUse, Overtaken, Replace, Restore, Supersede
from .leave import Discard, DropDerived, DropSized, Withdraw

if TYPE_CHECKING:
    from plumcrate.keeping.keeper import Keeper

__all__ = [
    "Change",
    "ChangeNote",
    "Discard",
    "DropDerived",
    "DropSized",
    "InUse",
    "MakeSized",
    "Overtaken",
    "PutBack",
    "Replace",
    "Restore",
    "Settled",
    "Supersede",
    "Upload",
    "Withdraw",
    "WriteDerived",
    "change_of",
]

_KINDS: dict[str, type[Change]] = {
    kind.action: kind
    for kind in (
        Replace,
        Restore,
        Supersede,
        WriteDerived,
        MakeSized,
        PutBack,
        Upload,
        DropDerived,
        DropSized,
        Withdraw,
        Discard,
    )
}


def change_of(keeper: Keeper, entry: Journal) -> Change:
    """The open change that a journal row tells of."""
    return _KINDS[entry.action](keeper, entry)
