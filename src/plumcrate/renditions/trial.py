"""Trying settings on a part of a picture: what they would make of it, in memory only."""

from __future__ import annotations

import base64
from dataclasses import replace

from sqlalchemy import select

from plumcrate.contract.common import Level
from plumcrate.contract.recipes import Trial, TrialRequest
from plumcrate.deciding.decision import core_recipe, variant_of, variants
from plumcrate.deciding.planning import settings_of
from plumcrate.imaging.errors import ImagingError
from plumcrate.imaging.outcome import Treatment
from plumcrate.imaging.recipe import Level as CoreLevel
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.originals import original_bytes
from plumcrate.keeping.state import StateFolder
from plumcrate.records.database import Database
from plumcrate.records.queries.libraries import current_recipe
from plumcrate.records.tables import File, Library, Picture
from plumcrate.refusal import Refusal
from plumcrate.runs.treating import trial_output
from plumcrate.sandbox.children import Sandbox, SandboxError


class Trier:
    """Tries settings on pictures. One of a service."""

    def __init__(self, database: Database, state: StateFolder, sandbox: Sandbox) -> None:
        self._database, self._state, self._sandbox = database, state, sandbox

    def attempt(self, picture: Picture, wanted: TrialRequest) -> Trial:
        """Raises :class:`Refusal` where the settings leave the picture alone, or it cannot be treated."""
        with self._database.reading() as session:
            file = session.get_one(File, picture.original_id)
            library = session.get_one(Library, picture.library_id)
            settings = wanted.settings or settings_of(current_recipe(session, library.id))
            ways = variants(settings, library.surveyed_at)
            decided = select(variant_of(ways)).select_from(File).join(Picture, Picture.id == File.picture_id)
            number = session.scalar(decided.where(File.id == file.id))
        way = ways[number or 0]
        recipe, because = way.recipe, way.because
        if wanted.level is not None:
            recipe, because = recipe or core_recipe(settings), f"tried at the level {wanted.level}"
            recipe = replace(recipe, level=CoreLevel(wanted.level))
        if recipe is None:
            raise Refusal("cannot-show", f"{file.path} stays as it is: {because}")
        data = original_bytes(Keeper.of(self._database, library, self._state), file)
        if data is None:
            raise Refusal("cannot-show", f"the original of {file.path} cannot be read now")
        # A part keeps its size, whatever the whole is fitted into.
        recipe = replace(recipe, largest=(0, 0))
        try:
            treatment, part = self._sandbox.trial(data, recipe, (wanted.x, wanted.y), wanted.pixels)
        except (SandboxError, ImagingError) as error:
            raise Refusal("cannot-show", f"{file.path} cannot be treated: {error}") from None
        return _trial(Level(recipe.level), because, treatment, part.data)


def _trial(level: Level, because: str, treatment: Treatment, part: bytes) -> Trial:
    width, height = treatment.facts.shown_size
    return Trial(
        level=level,
        because=because,
        format=treatment.facts.format,
        width=width,
        height=height,
        size=len(part),
        data=base64.b64encode(part).decode(),
        outputs=[trial_output(output, whole=True) for output in treatment.outputs],
    )
