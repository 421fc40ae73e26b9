"""What every size shows of a picture, so that all cuts can be looked at before anything is made."""

from __future__ import annotations

import threading
from collections import OrderedDict

from plumcrate.contract.sizes import Cut, Cuts
from plumcrate.deciding.shaping import sizes_of, slots_of
from plumcrate.imaging import ImagingError
from plumcrate.imaging.formats import FORMATS
from plumcrate.imaging.shapes import (
    PLACES,
    Size,
    cut,
    cut_at_place,
    sized,
    touched_point,
    touched_size,
    touches_of,
)
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.originals import original_bytes
from plumcrate.keeping.state import StateFolder
from plumcrate.records.database import Database
from plumcrate.records.tables import File, Library, Picture
from plumcrate.refusal import Refusal
from plumcrate.sandbox.children import Sandbox, SandboxError

_REMEMBERED = 2_000


class Cutter:
    """Answers for one service; remembers what was found in pictures."""

    def __init__(self, database: Database, state: StateFolder, sandbox: Sandbox) -> None:
        self._database, self._state, self._sandbox = database, state, sandbox
        self._found: OrderedDict[tuple[str, str], Matter] = OrderedDict()
        self._guard = threading.Lock()

    def cuts(self, picture: Picture) -> Cuts:
        """Raises :class:`Refusal` and StorageError."""
        with self._database.begin() as session:
            file = session.get_one(File, picture.original_id)
            library = session.get_one(Library, picture.library_id)
            sizes = sizes_of(session, library.id)
        shaped = file.format is not None and FORMATS[file.format].shaped
        if not shaped or not file.width or file.animated:
            raise Refusal("cannot-show", f"{file.path} is not a still picture that can be cut")
        touches = touches_of(picture.touches or [])
        width, height = touched_size(file.width, file.height, touches)
        by_hand = picture.focus is not None
        slots = [(name, slot) for name, settings in sizes.items() for slot in slots_of(settings)]
        boxes = [(name, slot, wanted) for name, slot in slots if (wanted := sized(width, height, slot.size))]
        asked = {
            wanted
            for _, slot, wanted in boxes
            if slot.size.way == "fill" and _needs_looking(slot.size, by_hand=by_hand)
        }
        matter = self._matter(library, file, picture, sorted(asked)) if asked or not by_hand else None
        if picture.focus is not None:
            x, y = touched_point((picture.focus[0], picture.focus[1]), file.width, file.height, touches)
        else:
            assert matter is not None
            x, y = matter[0]
        out = []
        for name, slot, wanted in boxes:
            box: tuple[float, float, float, float] = (0, 0, width, height)
            if slot.size.way == "fill":
                if slot.size.anchor in PLACES:
                    box = cut_at_place(width, height, wanted, slot.size.anchor)
                elif slot.size.anchor == "focus" and by_hand:
                    box = cut(width, height, wanted, (x, y))
                else:
                    assert matter is not None
                    box = matter[1][wanted]
            out.append(
                Cut(
                    name=name,
                    slot=slot.name,
                    width=wanted[0],
                    height=wanted[1],
                    left=box[0] / width,
                    top=box[1] / height,
                    right=box[2] / width,
                    bottom=box[3] / height,
                )
            )
        return Cuts(x=x, y=y, by_hand=by_hand, cuts=out)

    def _matter(
        self, library: Library, file: File, picture: Picture, wanted: list[tuple[int, int]]
    ) -> Matter:
        version = (file.before_sha256 or file.sha256 or b"").hex() or f"{file.mtime_ns}:{file.size_now}"
        key = f"{file.id}:{version}", repr((picture.touches, wanted))
        with self._guard:
            known = self._found.get(key)
        if known is None:
            keeper = Keeper.of(self._database, library, self._state)
            data = original_bytes(keeper, file)
            if data is None:
                raise Refusal("cannot-show", f"the original of {file.path} cannot be read now")
            try:
                known = self._sandbox.matters(
                    data, picture.touches or [], wanted, file.width * file.height / 1e6
                )
            except (ImagingError, SandboxError) as error:
                raise Refusal("cannot-show", str(error)) from None
            with self._guard:
                self._found[key] = known
                while len(self._found) > _REMEMBERED:
                    self._found.popitem(last=False)
        return known


def _needs_looking(size: Size, *, by_hand: bool) -> bool:
    return size.anchor == "matters" or (size.anchor == "focus" and not by_hand)


Matter = tuple[tuple[float, float], dict[tuple[int, int], tuple[int, int, int, int]]]
