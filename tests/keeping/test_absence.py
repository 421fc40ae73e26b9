"""What is not there is not gone: volumes that are away, renamed folders, a state folder not mounted."""

import os
import shutil
from pathlib import Path

import pytest
from place import COPY, NEW, OLD, Place, sha
from sqlalchemy import true

from plumcrate.contract.jobs import JobState
from plumcrate.contract.pictures import FileState, Purpose
from plumcrate.jobs.maintenance import prove_hand_back
from plumcrate.keeping import steps
from plumcrate.keeping.changes import ChangeNote
from plumcrate.keeping.derived import Beside
from plumcrate.keeping.prune import Which, finish_pruning, prune
from plumcrate.keeping.reattaching import reattach_library
from plumcrate.keeping.recovery import recover
from plumcrate.keeping.state import StateFolder
from plumcrate.keeping.steps import Step
from plumcrate.keeping.verify import verify
from plumcrate.records.database import Database
from plumcrate.records.tables import Library
from plumcrate.sandbox.children import Sandbox, Sandboxes
from plumcrate.storage.errors import NotThere, StorageError
from plumcrate.storage.names import IDENTITY_NAME
from plumcrate.worker.engine import Engine


@pytest.fixture
def place(database: Database, tmp_path: Path) -> Place:
    return Place(database, tmp_path)


def nothing_is_concluded(place: Place) -> None:
    """Everything that reads or writes refuses the empty folder, and leaves the records as they are."""
    before, backups = place.open_changes(), place.backups()
    if before:
        with pytest.raises(NotThere):
            recover(place.fresh_keeper())
    with pytest.raises(NotThere):
        list(verify(place.fresh_keeper(), mend=True))
    with pytest.raises(NotThere):
        place.fresh_keeper().restore(place.file, ChangeNote())
    with pytest.raises(NotThere):
        place.fresh_keeper().upload("new.jpg", b"x", ChangeNote())
    with pytest.raises(NotThere):
        prove_hand_back(place.database, 1, place.fresh_keeper())
    failed = place.survey()
    assert failed.state == JobState.FAILED
    assert "identity" in (failed.reason or "")
    prune(place.fresh_keeper(), Which(true()), note="")
    assert (place.open_changes(), place.backups()) == (before, backups)
    assert place.file.state != FileState.GONE


@pytest.mark.parametrize("step", [Step.JOURNALLED, Step.STAGED, Step.EXCHANGED, Step.CHECKED, Step.RECORDED])
def test_an_unmounted_volume_is_not_read_as_a_change_that_never_happened(place: Place, step: Step) -> None:
    place.keeper.ensure_identity()
    place.killed_at("replace", step)
    place.unmounted(lambda: nothing_is_concluded(place))
    recover(place.fresh_keeper())
    place.check()
    assert place.bytes() == (OLD if step in (Step.JOURNALLED, Step.STAGED) else NEW)
    if place.bytes() == NEW:
        place.fresh_keeper().restore(place.file, ChangeNote())
    assert place.bytes() == OLD


@pytest.mark.parametrize("what", ["withdraw", "copy", "restore", "upload"])
@pytest.mark.parametrize("step", [Step.EXCHANGED, Step.CHECKED])
def test_nor_as_any_other_change(place: Place, what: str, step: Step) -> None:
    place.keeper.replace(place.file, OLD, NEW, ChangeNote())
    if what == "withdraw":
        place.keeper.restore(place.file, ChangeNote())
    else:
        place.keeper.write_derived(place.file, Beside(Purpose.COPY, "webp"), COPY, ChangeNote())
        if what == "copy":
            place.keeper.drop_all_derived(place.file, ChangeNote())
    place.killed_at(what, step)
    place.unmounted(lambda: nothing_is_concluded(place))
    recover(place.fresh_keeper())
    assert place.open_changes() == 0
    if (place.root / "a.jpg").exists():
        assert place.bytes() in (OLD, NEW)
    assert place.fresh_keeper().backups.get(sha(OLD)) == OLD


def test_a_folder_below_that_is_away_keeps_its_changes_open(database: Database, tmp_path: Path) -> None:
    """The library is there with its identity file; the file's own folder is another one, and empty."""
    place = Place(database, tmp_path, "2025/a.jpg")
    place.keeper.ensure_identity()
    place.killed_at("replace", Step.EXCHANGED)
    (place.root / "2025").rename(tmp_path / "nested volume")
    (place.root / "2025").mkdir()
    assert recover(place.fresh_keeper()).open == 1
    place.survey()
    assert place.open_changes() == 1
    prune(place.fresh_keeper(), Which(true()), note="")
    assert place.fresh_keeper().backups.get(sha(OLD)) == OLD
    (place.root / "2025").rmdir()
    (tmp_path / "nested volume").rename(place.root / "2025")
    assert recover(place.fresh_keeper()).finished == 1
    assert (place.bytes(), place.file.before_sha256) == (NEW, sha(OLD))
    assert os.listdir(place.root / "2025") == ["a.jpg"]


def test_when_the_folder_is_the_same_a_name_that_is_missing_was_deleted(place: Place) -> None:
    place.killed_at("replace", Step.JOURNALLED)
    (place.root / "a.jpg").unlink()
    assert recover(place.fresh_keeper()).undone == 1
    assert place.survey().files_gone == 1


@pytest.mark.parametrize("step", [Step.BACKED_UP, Step.JOURNALLED, Step.STAGED, Step.EXCHANGED, Step.CHECKED])
def test_a_library_renamed_in_the_middle_of_a_change(
    place: Place, monkeypatch: pytest.MonkeyPatch, step: Step
) -> None:
    """The change goes on in the very folder in which it began, wherever that is called now."""
    place.keeper.ensure_identity()

    def rename(passed: Step) -> None:
        if passed is step:
            place.root.rename(place.root.with_name("elsewhere"))
            place.root.mkdir()

    monkeypatch.setattr(steps, "observer", rename)
    place.keeper.replace(place.file, OLD, NEW, ChangeNote())
    monkeypatch.undo()
    assert os.listdir(place.root) == []
    place.root.rmdir()
    place.root.with_name("elsewhere").rename(place.root)
    place.check()
    assert place.bytes() == NEW


def test_a_state_folder_that_is_not_mounted_is_no_empty_store(place: Place, tmp_path: Path) -> None:
    place.fresh_keeper().replace(place.file, OLD, NEW, ChangeNote())
    place.state.rename(tmp_path / "state volume")
    for present in (False, True):
        if present:
            place.state.mkdir()
        with pytest.raises(NotThere, match="mount"):
            place.fresh_keeper().restore(place.file, ChangeNote())
        with pytest.raises(NotThere):
            place.fresh_keeper().replace(place.file, NEW, b"lighter still", ChangeNote())
        with pytest.raises(NotThere):
            prune(place.fresh_keeper(), Which(true(), needed=True), note="")
        with pytest.raises(NotThere):
            place.fresh_keeper().back_up(b"x", sha(b"x"))
        assert place.bytes() == NEW
        assert not present or os.listdir(place.state) == []
    assert finish_pruning(place.fresh_keeper()) == 0
    place.state.rmdir()
    (tmp_path / "state volume").rename(place.state)
    place.fresh_keeper().restore(place.file, ChangeNote())
    assert place.bytes() == OLD


def test_a_state_folder_of_another_installation_is_refused(place: Place, tmp_path: Path) -> None:
    place.state.mkdir()
    (place.state / IDENTITY_NAME).write_text("somebody else's\n")
    with pytest.raises(NotThere, match="another installation"):
        place.fresh_keeper().replace(place.file, OLD, NEW, ChangeNote())
    assert place.bytes() == OLD


def test_a_state_folder_from_before_identity_files_is_adopted_only_with_its_backups(
    place: Place, tmp_path: Path
) -> None:
    place.keeper.replace(place.file, OLD, NEW, ChangeNote())  # this keeper's store asks for no identity file
    shutil.move(place.state, tmp_path / "away")
    with pytest.raises(NotThere, match="none of the backups"):
        StateFolder(place.database, place.state).check()
    place.state.rmdir() if place.state.is_dir() else None
    shutil.move(tmp_path / "away", place.state)
    StateFolder(place.database, place.state).check()
    assert (place.state / IDENTITY_NAME).is_file()
    StateFolder(place.database, place.state).check()


def test_a_run_waits_for_a_library_that_is_away(place: Place) -> None:
    place.keeper.ensure_identity()
    with place.database.begin() as session:
        library = session.get_one(Library, 1)
    from plumcrate.settings import Settings

    settings = Settings(database_url=place.database.url, state_dir=place.state)
    engine = Engine(settings, place.database, Sandboxes(*(Sandbox(0, 500, 1) for _ in range(3))))
    assert engine.why_away(library) is None
    reasons: list[str | None] = []
    place.unmounted(lambda: reasons.append(engine.why_away(library)))
    assert "is the right volume mounted" in (reasons[0] or "")
    place.unmounted(engine.recover_all)  # told in the log; nobody dies of it


def test_a_folder_that_lost_its_identity_file_is_taken_again_when_a_person_says_so(place: Place) -> None:
    place.keeper.replace(place.file, OLD, NEW, ChangeNote())
    (place.root / IDENTITY_NAME).unlink()
    with pytest.raises(NotThere):
        place.fresh_keeper().restore(place.file, ChangeNote())
    assert reattach_library(place.fresh_keeper()).identified
    place.fresh_keeper().restore(place.file, ChangeNote())
    assert place.bytes() == OLD
    (place.root / IDENTITY_NAME).write_text("another's\n")
    with pytest.raises(StorageError, match="another library"):
        reattach_library(place.fresh_keeper())


def test_changes_whose_folder_is_gone_for_good_are_given_up_when_a_person_says_so(
    database: Database, tmp_path: Path
) -> None:
    place = Place(database, tmp_path, "2025/a.jpg")
    place.keeper.ensure_identity()
    place.killed_at("replace", Step.EXCHANGED)
    shutil.rmtree(place.root / "2025")
    assert recover(place.fresh_keeper()).open == 1
    done = reattach_library(place.fresh_keeper())
    assert (done.closed, done.gone, place.open_changes()) == (1, 1, 0)
    assert place.file.state == FileState.GONE
    prune(place.fresh_keeper(), Which(true()), note="")
    assert place.fresh_keeper().backups.get(sha(OLD)) == OLD, "it is an orphan, and stays until said"


def test_an_empty_folder_is_not_marked_as_the_library(place: Place) -> None:
    """Nothing was changed yet, so it holds no identity file; the volume is away when the first change
    comes."""
    file = place.file

    def first_change() -> None:
        with pytest.raises(NotThere, match="none of the files known"):
            place.fresh_keeper().upload("new.jpg", b"x", ChangeNote())
        with pytest.raises(StorageError):
            place.fresh_keeper().replace(file, OLD, NEW, ChangeNote())
        assert place.survey().state == JobState.FAILED

    place.unmounted(first_change)
    assert place.bytes() == OLD
