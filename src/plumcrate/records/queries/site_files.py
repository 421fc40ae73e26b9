"""What a site's own software needs to know of its files, many at a time."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session

from plumcrate.contract.pictures import FileState
from plumcrate.contract.site_files import SiteFile, SizeFile
from plumcrate.contract.sizes import Focus
from plumcrate.records.queries.descriptions import alternatives_of
from plumcrate.records.tables import File, Picture, Result


def site_files(session: Session, library_id: int, paths: Sequence[str]) -> list[SiteFile]:
    """Files by path, those that made way for a conversion among them; what is not on record is left out."""
    rows = session.execute(
        select(File, Picture, Result.made)
        .join(Picture, Picture.id == File.picture_id)
        .outerjoin(Result, (Result.library_id == File.library_id) & (Result.sha256 == File.sha256))
        .where(File.library_id == library_id, File.path.in_(paths), File.state != FileState.GONE)
        .order_by(File.path)
    ).all()
    pictures = {picture.id for _, picture, _ in rows}
    sizes, said = _sizes(session, pictures), alternatives_of(session, library_id, pictures)
    return [
        SiteFile(
            path=file.path,
            picture_id=picture.id,
            file_id=file.id,
            role=file.role,
            state=file.state,
            size_before=file.size_before,
            size_now=file.size_now,
            lightest=min([file.size_now, *(one.size for one in file.copies if one.stands_in)]),
            score=file.score,
            level=file.level,
            has_original=file.before_sha256 is not None
            and not {"touches", "watermark"} & ((made or {}).get("recipe") or {}).keys(),
            focus=None if picture.focus is None else Focus(x=picture.focus[0], y=picture.focus[1]),
            sizes=sizes[picture.id],
            alternatives=said.get(picture.id, {}),
        )
        for file, picture, made in rows
    ]


def _sizes(session: Session, pictures: set[int]) -> dict[int, list[SizeFile]]:
    found: dict[int, list[SizeFile]] = defaultdict(list)
    query = (
        select(File)
        .where(File.picture_id.in_(pictures), File.size_name.is_not(None))
        .where(File.state.not_in((FileState.GONE, FileState.REMOVED)))
        .order_by(File.size_name, File.width)
    )
    for file in session.scalars(query):
        width, height = file.shown
        found[file.picture_id].append(
            SizeFile(
                size_name=file.size_name or "", slot=file.slot, path=file.path, width=width, height=height
            )
        )
    return found
