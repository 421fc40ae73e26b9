"""What files say of themselves is read once, from their originals, and again when they change."""

from __future__ import annotations

from pathlib import Path
from types import SimpleNamespace

import pytest
from conftest import add_library, photograph, surveyed
from PIL import Image
from sqlalchemy import select

from plumcrate.contract.jobs import JobKind, WordsReport
from plumcrate.descriptions.reading import read_words
from plumcrate.imaging.metadata.texts import embedded_texts
from plumcrate.jobs.long_work import carry_out
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.state import StateFolder
from plumcrate.records.database import Database
from plumcrate.records.tables import EmbeddedTexts, Job, Library
from plumcrate.sandbox.children import SandboxError

PACKET = """<x:xmpmeta xmlns:x="adobe:ns:meta/"><rdf:RDF
 xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#"><rdf:Description
 xmlns:photoshop="http://ns.adobe.com/photoshop/1.0/" photoshop:Headline="%s"/></rdf:RDF></x:xmpmeta>"""


def headlined(path: Path, headline: str) -> None:
    photograph(path, 60, 40)
    with Image.open(path) as image:
        image.load()
        image.save(path, xmp=(PACKET % headline).encode())


@pytest.fixture
def keeper(database: Database, tmp_path: Path) -> Keeper:
    root = tmp_path / "library"
    headlined(root / "lens.jpg", "The lens")
    photograph(root / "silent.jpg", 60, 40)
    add_library(database, root)
    (tmp_path / "state").mkdir()
    with database.begin() as session:
        library = session.get_one(Library, 1)
    keeper = Keeper.of(database, library, StateFolder(database, tmp_path / "state"))
    surveyed(database, keeper)
    return keeper


def read(keeper: Keeper, texts: object = embedded_texts) -> WordsReport:
    sandbox = SimpleNamespace(texts=texts)
    with keeper.database.begin() as session:
        row = Job(library_id=1, kind=JobKind.WORDS)
        session.add(row)
    work = {JobKind.WORDS: lambda _, follow: read_words(keeper, sandbox, follow, at_a_time=2)}
    carry_out(keeper.database, row.id, work)
    with keeper.database.begin() as session:
        row = session.get_one(Job, row.id)
    assert row.state == "finished", row.reason
    return WordsReport.model_validate(row.report)


def known(keeper: Keeper) -> list[list[list[str]]]:
    with keeper.database.begin() as session:
        return list(session.scalars(select(EmbeddedTexts.texts).order_by(EmbeddedTexts.picture_id)))


def test_words_are_read_once_and_again_when_a_file_changed(keeper: Keeper) -> None:
    report = read(keeper)
    assert (report.pictures, report.looked_at, report.with_words) == (2, 2, 1)
    assert known(keeper) == [[["xmp-headline", "The lens"]], []]
    assert read(keeper).looked_at == 0
    headlined(Path(keeper.store.root, "lens.jpg"), "The new lens, polished")
    surveyed(keeper.database, keeper)
    assert read(keeper).looked_at == 1
    assert known(keeper)[0] == [["xmp-headline", "The new lens, polished"]]


def test_what_cannot_be_read_is_told_and_tried_another_time(keeper: Keeper) -> None:
    def killed(data: bytes) -> list[tuple[str, str]]:
        raise SandboxError("killed", "the child was killed")

    assert read(keeper, killed).unreadable == 2
    assert known(keeper) == []
    assert read(keeper).looked_at == 2
