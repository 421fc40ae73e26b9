"""Renditions are found by what they show, proposed by folder, and taken when a person says so."""

from __future__ import annotations

from pathlib import Path
from types import SimpleNamespace

import pytest
from conftest import add_library, photograph, surveyed
from PIL import Image
from sqlalchemy import select

from plumcrate.contract.jobs import JobKind, ResemblanceReport
from plumcrate.contract.mapping import ProposalAnswer
from plumcrate.contract.pictures import FileRole
from plumcrate.imaging import Limits
from plumcrate.imaging.fingerprint import fingerprint
from plumcrate.intake.proposals import answer_proposal, proposals
from plumcrate.intake.resembling import propose_renditions
from plumcrate.jobs.long_work import carry_out
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.state import StateFolder
from plumcrate.records.database import Database
from plumcrate.records.tables import File, Job, Library
from plumcrate.refusal import Refusal

SANDBOX = SimpleNamespace(fingerprint=lambda data: fingerprint(data, Limits()))


@pytest.fixture
def keeper(database: Database, tmp_path: Path) -> Keeper:
    """Three photographs; two of them smaller under names that tell nothing, one cut, one of its own."""
    root = tmp_path / "library"
    for number in range(3):
        photograph(root / f"up/{number}.jpg", 360, 240, number)
    (root / "made").mkdir()
    for number, name in ((0, "aa"), (1, "bb")):
        with Image.open(root / f"up/{number}.jpg") as image:
            image.resize((120, 80)).save(root / f"made/{name}.webp")
    with Image.open(root / "up/2.jpg") as image:
        image.crop((90, 30, 270, 150)).save(root / "made/cut.jpg")
    (root / "made/broken.jpg").write_bytes((root / "up/0.jpg").read_bytes()[:700])
    add_library(database, root)
    (tmp_path / "state").mkdir()
    with database.begin() as session:
        library = session.get_one(Library, 1)
    keeper = Keeper.of(database, library, StateFolder(database, tmp_path / "state"))
    surveyed(database, keeper)
    return keeper


def look(keeper: Keeper) -> ResemblanceReport:
    with keeper.database.begin() as session:
        row = Job(library_id=1, kind=JobKind.RESEMBLANCE)
        session.add(row)
    work = {
        JobKind.RESEMBLANCE: lambda library, follow: propose_renditions(
            keeper, SANDBOX, follow, at_a_time=2, most_bytes=10**7
        )
    }
    carry_out(keeper.database, row.id, work)
    with keeper.database.begin() as session:
        row = session.get_one(Job, row.id)
    assert row.state == "finished", row.reason
    return ResemblanceReport.model_validate(row.report)


def roles(keeper: Keeper) -> dict[str, str]:
    with keeper.database.begin() as session:
        return dict(session.execute(select(File.path, File.role)).all())


def test_a_folder_of_renditions_is_proposed_and_taken_when_a_person_says_so(keeper: Keeper) -> None:
    before = roles(keeper)
    report = look(keeper)
    assert (report.files, report.looked_at, report.found) == (7, 7, 2)
    assert report.unreadable == 1
    with keeper.database.begin() as session:
        library = session.get_one(Library, 1)
        (folder,) = proposals(session, library)
    assert (folder.folder, folder.renditions, folder.others) == ("made", 2, 2)
    assert [(one.path, one.original) for one in folder.examples] == [
        ("made/aa.webp", "up/0.jpg"),
        ("made/bb.webp", "up/1.jpg"),
    ]
    assert roles(keeper) == before, "nothing is done in silence"
    with keeper.database.begin() as session:
        answer_proposal(session, library, ProposalAnswer(folder="made", accept=True))
        assert proposals(session, library) == []
    changed = {path: role for path, role in roles(keeper).items() if role != before[path]}
    assert changed == dict.fromkeys(("made/aa.webp", "made/bb.webp"), FileRole.RENDITION)
    report = look(keeper)
    assert (report.files, report.found) == (5, 0), "what has its original is not looked at again"
    surveyed(keeper.database, keeper)
    assert roles(keeper)["made/aa.webp"] == FileRole.RENDITION


def test_what_is_dismissed_is_forgotten(keeper: Keeper) -> None:
    before = roles(keeper)
    look(keeper)
    with keeper.database.begin() as session:
        library = session.get_one(Library, 1)
        answer_proposal(session, library, ProposalAnswer(folder="made", accept=False))
        assert proposals(session, library) == []
        with pytest.raises(Refusal, match="nothing is proposed for the folder made"):
            answer_proposal(session, library, ProposalAnswer(folder="made", accept=True))
    assert roles(keeper) == before


def test_a_look_forgets_what_was_proposed_before(keeper: Keeper) -> None:
    look(keeper)
    Path(keeper.store.root, "made/aa.webp").unlink()
    surveyed(keeper.database, keeper)
    assert look(keeper).found == 1
