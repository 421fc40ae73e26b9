"""Touch-ups of pictures: what is on record of them, and refusing what cannot be taken back."""

from __future__ import annotations

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from plumcrate.contract.touches import MOST_STEPS, TouchedPicture, TouchedView, Touches, TouchesFor
from plumcrate.imaging.shapes import plain_touches, touched_size, touches_of
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.originals import original_bytes
from plumcrate.keeping.state import StateFolder
from plumcrate.records.database import Database
from plumcrate.records.tables import File, Ledger, Library, Picture
from plumcrate.refusal import Refusal
from plumcrate.runs.runs import automation_of
from plumcrate.sandbox.children import Sandbox, SandboxError

#: Steps that mean a place in one picture.
_PLACED = ("crop", "cover")


def touched_view(session: Session, picture: Picture) -> TouchedPicture:
    """A picture's steps as they are on record."""
    file = session.get_one(File, picture.original_id)
    steps = picture.touches or []
    width, height = touched_size(file.width, file.height, touches_of(steps))
    return TouchedPicture.model_validate(
        {
            "picture_id": picture.id,
            "steps": steps,
            "original": file.original_version,
            "width": width,
            "height": height,
            "by": picture.touched_by,
            "at": picture.touched_at,
        }
    )


def save_touches(session: Session, picture: Picture, wanted: Touches, by: str) -> None:
    """Puts all steps of a picture on record; the next run makes it so. Raises :class:`Refusal`."""
    file = session.get_one(File, picture.original_id)
    library = session.get_one(Library, picture.library_id)
    if wanted.original is not None and wanted.original != file.original_version:
        raise Refusal(
            "picture-replaced",
            f"{file.path} was replaced by another picture meanwhile, and its touch-ups went with it: "
            "look at the new one first; nothing was changed",
        )
    if wanted.steps:
        _refuse_untouchable(library, file)
    steps = plain_touches(touches_of([step.model_dump() for step in wanted.steps]))
    if (picture.touches or []) == steps:
        return
    picture.touches, picture.touched_by, picture.touched_at = steps or None, by, func.now()
    session.add(
        Ledger(
            library_id=library.id,
            picture_id=picture.id,
            file_id=file.id,
            path=file.path,
            action="touched-up",
            detail={"by": by, "steps": [step["kind"] for step in steps]},
        )
    )
    session.flush()


def add_touches(session: Session, library: Library, wanted: TouchesFor, by: str) -> int:
    """Adds steps behind those that pictures have; of how many. Raises :class:`Refusal`, then of none."""
    placed = [step.kind for step in wanted.steps if step.kind in _PLACED]
    if placed:
        raise Refusal(
            "invalid-request", f"a {placed[0]} means a place in one picture: do it picture by picture"
        )
    pictures = session.scalars(
        select(Picture).where(Picture.library_id == library.id, Picture.id.in_(wanted.pictures))
    ).all()
    if len(pictures) != len(set(wanted.pictures)):
        raise Refusal("not-found", "some of these pictures are not in the library; nothing was changed")
    for picture in pictures:
        steps = [*(picture.touches or []), *(step.model_dump() for step in wanted.steps)]
        if len(steps) > MOST_STEPS:
            path = session.get_one(File, picture.original_id).path
            raise Refusal(
                "invalid-request",
                f"{path} has {len(picture.touches or [])} touch-ups already; a picture has at most "
                f"{MOST_STEPS}: nothing was changed",
            )
        save_touches(session, picture, Touches.model_validate({"steps": steps}), by)
    return len(pictures)


def _refuse_untouchable(library: Library, file: File) -> None:
    if file.animated:
        raise Refusal("cannot-touch", f"{file.path} moves: only still pictures are touched up")
    if file.format == "gif":
        raise Refusal("cannot-touch", f"{file.path} is a GIF, which has no room for new colours")
    if not file.width:
        raise Refusal("cannot-touch", f"{file.path} cannot be read as a picture")
    if file.before_sha256 is None and not automation_of(library).backups:
        raise Refusal(
            "cannot-touch",
            f"nothing would keep the original of {file.path}: switch backups on for {library.name} first",
        )
    if file.before_sha256 is None and file.sha256 is not None and file.level != "exact":
        raise Refusal(
            "cannot-touch", f"{file.path} was treated without a backup, so there is no original to work on"
        )


class Toucher:
    """Shows pictures with steps that are not on record yet. One of a service."""

    def __init__(self, database: Database, state: StateFolder, sandbox: Sandbox) -> None:
        self._database, self._state, self._sandbox = database, state, sandbox

    def view(self, picture: Picture, wanted: TouchedView) -> tuple[bytes, tuple[int, int]]:
        """A WebP, and the width and height of the whole picture. Raises :class:`Refusal` and StorageError."""
        with self._database.begin() as session:
            file = session.get_one(File, picture.original_id)
            library = session.get_one(Library, picture.library_id)
        data = original_bytes(Keeper.of(self._database, library, self._state), file)
        if data is None:
            raise Refusal("cannot-show", f"the original of {file.path} cannot be read now")
        steps = plain_touches(touches_of([step.model_dump() for step in wanted.steps]))
        at = (None, None) if wanted.whole else (wanted.left, wanted.top)
        area = (*at, wanted.width, wanted.height)
        try:
            return self._sandbox.view(data, steps, area, file.width * file.height / 1e6)
        except SandboxError as error:
            raise Refusal("cannot-show", str(error)) from None
