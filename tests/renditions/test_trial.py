"""Settings tried on a part of a picture: what a run would make of that part; and nothing changes."""

from __future__ import annotations

import base64
import io
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from conftest import hashes, photograph, surveyed
from PIL import Image
from sqlalchemy import select
from walk import Walk

from plumcrate.contract.common import Level
from plumcrate.contract.recipes import RecipeSettings, Trial, TrialRequest
from plumcrate.imaging import Level as CoreLevel
from plumcrate.imaging import Limits, Recipe, treat
from plumcrate.imaging.errors import LeftAlone, TooLarge
from plumcrate.imaging.outcome import Chosen
from plumcrate.imaging.pixels import decode
from plumcrate.keeping.state import StateFolder
from plumcrate.records.database import Database
from plumcrate.records.tables import Picture
from plumcrate.refusal import Refusal
from plumcrate.renditions.trial import Trier
from plumcrate.sandbox.children import Sandbox

PIXELS = 10_000


@pytest.fixture(scope="module")
def sandbox() -> Iterator[Sandbox]:
    made = Sandbox(1, memory_mb=3000, seconds_per_megapixel=10)
    yield made
    made.close()


class Bench(Walk):
    """A library on whose pictures settings are tried."""

    def __init__(self, database: Database, place: Path, sandbox: Sandbox) -> None:
        super().__init__(database, place)
        photograph(self.root / "a.jpg", 480, 320, seed=2)
        drawing = np.full((200, 260, 3), 255, np.uint8)
        drawing[40:160:8] = (20, 60, 120)
        Image.fromarray(drawing).save(self.root / "chart.png")
        surveyed(database, self.keeper)
        self._trier = Trier(database, StateFolder(database, place / "state"), sandbox)

    def attempt(self, path: str, **wanted: object) -> Trial:
        with self.database.reading() as session:
            picture = session.scalars(select(Picture).where(Picture.path == path)).one()
        return self._trier.attempt(picture, TrialRequest.model_validate({"pixels": PIXELS} | wanted))


@pytest.fixture
def bench(database: Database, tmp_path: Path, sandbox: Sandbox) -> Bench:
    return Bench(database, tmp_path, sandbox)


def data_of(trial: Trial, role: str = "file") -> bytes:
    output = next(one for one in trial.outputs if one.role == role)
    assert output.data is not None
    return base64.b64decode(output.data)


@pytest.mark.parametrize("level", ["exact", "lean"])
def test_a_trial_is_what_a_treatment_makes_of_the_part_and_changes_nothing(bench: Bench, level: str) -> None:
    before = hashes(bench.root)
    trial = bench.attempt("a.jpg", level=level)
    part = base64.b64decode(trial.data)
    made = treat(part, Recipe(CoreLevel(level))).main
    assert isinstance(made, Chosen)
    assert data_of(trial) == made.data
    assert (trial.level, trial.size, trial.width * trial.height <= PIXELS) == (level, len(part), True)
    if level == "exact":
        assert np.array_equal(decode(part).rgb, decode(made.data).rgb)
    assert hashes(bench.root) == before


def test_the_recipe_in_use_its_rules_and_a_picture_s_own_level_decide_as_in_a_run(bench: Bench) -> None:
    rule = {"name": "drawings", "when": {"formats": ["png"]}, "leave": True}
    settings = RecipeSettings.model_validate({"level": "lean", "rules": [rule]}).model_dump(mode="json")
    assert bench.attempt("a.jpg").level is Level.EVERYDAY
    tried = bench.attempt("a.jpg", settings=settings)
    assert (tried.level, tried.because) == (Level.LEAN, "the recipe decides")
    with pytest.raises(Refusal, match="stays as it is: the rule “drawings” leaves it alone"):
        bench.attempt("chart.png", settings=settings)
    assert bench.attempt("chart.png", settings=settings, level="exact").level is Level.EXACT
    with bench.database.begin() as session:
        session.scalars(select(Picture).where(Picture.path == "a.jpg")).one().override = "gallery"
    assert bench.attempt("a.jpg", settings=settings).level is Level.GALLERY


def test_what_is_tried_is_the_original_also_after_a_run(bench: Bench) -> None:
    first = bench.attempt("a.jpg", x=0.3, y=0.6)
    bench.run(copies=[])
    again = bench.attempt("a.jpg", x=0.3, y=0.6)
    assert again.data == first.data
    assert data_of(again) == data_of(first)


def test_what_cannot_be_tried_says_why(bench: Bench) -> None:
    (bench.root / "a.jpg").unlink()
    with pytest.raises(Refusal, match=r"the original of a\.jpg cannot be read now"):
        bench.attempt("a.jpg")
    (bench.root / "chart.png").write_bytes(b"nothing of the kind")
    with pytest.raises(Refusal, match=r"chart\.png cannot be treated: the content is not a picture"):
        bench.attempt("chart.png")


def test_only_a_part_is_ever_treated_and_only_of_what_may_be_treated(bench: Bench, sandbox: Sandbox) -> None:
    large = io.BytesIO()
    with Image.open(bench.root / "a.jpg") as image:
        image.save(large, "WEBP", quality=80)
    with pytest.raises(LeftAlone, match="of a WEBP of this kind and size no part can be tried"):
        sandbox.trial(large.getvalue(), Recipe(), (0.5, 0.5), PIXELS)
    narrow = Sandbox(1, memory_mb=3000, seconds_per_megapixel=10, limits=Limits(100_000))
    with pytest.raises(TooLarge):
        narrow.trial((bench.root / "a.jpg").read_bytes(), Recipe(), (0.5, 0.5), PIXELS)
    narrow.close()


def test_a_part_is_as_large_as_asked_for_and_of_the_place_asked_for(bench: Bench) -> None:
    with Image.open(bench.root / "a.jpg") as whole:
        corner = np.asarray(whole.convert("RGB").crop((0, 0, 64, 48)), np.int16)
    trial = bench.attempt("a.jpg", x=0, y=0)
    with Image.open(io.BytesIO(base64.b64decode(trial.data))) as part:
        found = np.asarray(part.convert("RGB").crop((0, 0, 64, 48)), np.int16)
    assert np.abs(found - corner).mean() < 2
