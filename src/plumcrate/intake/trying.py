"""Trying an upload: what would become of a file, said before anything is written."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import Any, BinaryIO

from sqlalchemy import select, update
from sqlalchemy.orm import Session

from plumcrate.contract.common import Level
from plumcrate.contract.recipes import UploadTrial
from plumcrate.deciding.decision import Variant, variant_of, variants
from plumcrate.deciding.planning import settings_of
from plumcrate.imaging.errors import ImagingError
from plumcrate.imaging.identification import Facts, identify
from plumcrate.imaging.outcome import Output
from plumcrate.keeping.keeper import Keeper
from plumcrate.records.queries.libraries import current_recipe
from plumcrate.records.tables import File, Library, Picture
from plumcrate.refusal import Refusal
from plumcrate.runs.treating import trial_output
from plumcrate.sandbox.children import Sandbox, SandboxError
from plumcrate.storage.store import ListedFile

from .families import settle_families
from .headers import HEADER, no_treatment, values_of
from .uploads import check_content


def try_upload(
    keeper: Keeper, library: Library, path: str, file: BinaryIO, sandbox: Sandbox, most_bytes: int
) -> UploadTrial:
    """Treats a file as the library's recipe would, in memory. Raises Refusal for what would not be taken in,
    or could not be treated."""
    check_content(path, file, sandbox)
    file.seek(0)
    try:
        facts = identify(file.read(HEADER))
    except ImagingError as error:
        raise Refusal("not-a-picture", f"{path} would not be taken in: {error}") from None
    size = file.seek(0, os.SEEK_END)
    if size > most_bytes:
        raise Refusal("too-large", f"{path} has more than the {most_bytes:,} bytes that are treated here")
    with keeper.store.visit():
        taken = keeper.store.taken(path)
    with keeper.database.session() as session, _as_if(session, library, path, size, facts) as row:
        ways = variants(settings_of(current_recipe(session, library.id)), library.surveyed_at)
        way = ways[_number(session, row, ways)]
        role = row.role
    outputs: Sequence[Output] = ()
    if way.recipe is not None:
        file.seek(0)
        try:
            outputs = sandbox.treat(file.read(), way.recipe, facts.width * facts.height / 1e6).outputs
        except (ImagingError, SandboxError) as error:
            raise Refusal(
                "not-a-picture", f"{path} would stay as it is: it cannot be treated: {error}"
            ) from None
    width, height = facts.shown_size
    return UploadTrial(
        path=path,
        taken=taken,
        role=role,
        rule=way.rule,
        because=way.because,
        level=None if way.recipe is None else Level(way.recipe.level),
        format=facts.format,
        width=width,
        height=height,
        size=size,
        outputs=[trial_output(output, whole=False) for output in outputs],
    )


@contextmanager
def _as_if(session: Session, library: Library, path: str, size: int, facts: Facts) -> Iterator[File]:
    """The record of a file as if it had been taken in; all is rolled back."""
    values: dict[str, Any] = no_treatment() | values_of(ListedFile(path, size, 0), facts)
    at = select(File).where(File.library_id == library.id, File.path == path)
    known = session.scalar(at)
    if known is not None:
        session.execute(update(File).where(File.id == known.id).values(**values))
    else:
        settle_families(session, library.id, library.patterns, {values["folder"]}, [values])
    try:
        yield session.scalars(at.execution_options(populate_existing=True)).one()
    finally:
        session.rollback()


def _number(session: Session, row: File, ways: list[Variant]) -> int:
    decided = select(variant_of(ways)).select_from(File).join(Picture, Picture.id == File.picture_id)
    return session.scalar(decided.where(File.id == row.id)) or 0
