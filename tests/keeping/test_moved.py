"""What is ours is known by content: files moved, copied, deleted or overwritten keep their original."""

import os
import shutil
from pathlib import Path

import pytest
from place import COPY, NEW, OLD, Place, sha
from sqlalchemy import select, text, true, update

from plumcrate.contract.pictures import FileState, Purpose
from plumcrate.contract.runs import RunKind, RunOrigin, RunRequest, Scope
from plumcrate.intake.arrivals import IntakeRound, note_arrivals, take_in_settled
from plumcrate.keeping.changes import ChangeNote
from plumcrate.keeping.derived import Beside
from plumcrate.keeping.orphans import orphans
from plumcrate.keeping.prune import Which, prune
from plumcrate.keeping.recovery import recover
from plumcrate.keeping.steps import Step
from plumcrate.keeping.verify import verify
from plumcrate.records.database import Database
from plumcrate.records.tables import Arrival, File, Item, Ledger, Library, Picture
from plumcrate.runs.runs import create_run
from plumcrate.runs.treating import source_of
from plumcrate.storage.errors import StorageError
from plumcrate.storage.names import IDENTITY_NAME

MADE = {"level": "everyday", "recipe": {"level": "everyday"}, "how": "x", "score": 80.0}


@pytest.fixture
def place(database: Database, tmp_path: Path) -> Place:
    """A file in a folder, treated, with a copy beside it."""
    place = Place(database, tmp_path, "2025/a.jpg")
    keeper = place.fresh_keeper()
    keeper.replace(place.file, OLD, NEW, ChangeNote(made=MADE))
    keeper.write_derived(place.file, Beside(Purpose.COPY, "webp"), COPY, ChangeNote())
    place.survey()
    return place


def treat_all(place: Place, **options: object) -> list[str]:
    """The paths that a run would treat."""
    with place.database.begin() as session:
        library = session.get_one(Library, 1)
        run = create_run(session, library, RunRequest(library="l", **options))
        return list(session.scalars(select(Item.path).where(Item.run_id == run.id)))


def take_in(place: Place, library: Library) -> IntakeRound:
    """Two rounds of intake, the second when the files have settled."""
    take_in_settled(place.database, place.fresh_keeper(), library)
    with place.database.begin() as session:
        session.execute(update(Arrival).values(changed_at=text("now() - interval '1 hour'")))
    return take_in_settled(place.database, place.fresh_keeper(), library)


def handed_back(place: Place) -> dict[str, bytes]:
    keeper = place.fresh_keeper()
    for file in place.files().values():
        if file.state != FileState.GONE and (file.before_sha256 or file.derived):
            keeper.restore(file, ChangeNote())
    return {
        path.relative_to(place.root).as_posix(): path.read_bytes()
        for path in place.root.rglob("*")
        if path.is_file() and path.name != IDENTITY_NAME
    }


def test_a_moved_folder_brings_originals_copies_and_history_along(place: Place) -> None:
    (place.root / "2025").rename(place.root / "archive")
    done = place.survey()
    assert (done.files_new, done.files_gone) == (0, 0)
    assert any("recognised" in note for note in done.notes)
    (file,) = place.files().values()
    assert (file.path, file.state, file.before_sha256) == ("archive/a.jpg", FileState.LIGHTER, sha(OLD))
    assert [copy.path for copy in file.derived] == ["archive/a.jpg.webp"]
    with place.database.begin() as session:
        assert session.scalars(select(Picture)).one().path == "archive/a.jpg"
        assert "moved" in session.scalars(select(Ledger.action).where(Ledger.file_id == file.id)).all()
    assert prune(place.fresh_keeper(), Which(true()), note="").backups == 0
    assert source_of(place.fresh_keeper(), file, NEW) == OLD, "a second treatment begins from the original"
    assert handed_back(place) == {"archive/a.jpg": OLD}


def test_a_single_file_that_was_moved_and_its_copy_left_behind(place: Place) -> None:
    (place.root / "2025/a.jpg").rename(place.root / "cover.jpg")
    place.survey()
    file = place.files()["cover.jpg"]
    assert (file.state, file.before_sha256, file.derived) == (FileState.LIGHTER, sha(OLD), [])
    assert not (place.root / "2025/a.jpg.webp").exists(), "it would show a picture that is not there"
    assert file.recipe is None, "the next run makes its copies again"
    assert handed_back(place) == {"cover.jpg": OLD}


def test_a_copy_of_a_treated_file_is_no_original(place: Place) -> None:
    shutil.copytree(place.root / "2025", place.root / "again")
    done = place.survey()
    assert done.files_new == 1
    files = place.files()
    assert files["again/a.jpg"].before_sha256 == sha(OLD)
    assert [copy.path for copy in files["again/a.jpg"].derived] == ["again/a.jpg.webp"]
    assert handed_back(place) == {"2025/a.jpg": OLD, "again/a.jpg": OLD}


def test_a_copy_of_ours_that_somebody_uses_by_itself_is_left_alone(place: Place) -> None:
    shutil.copy(place.root / "2025/a.jpg.webp", place.root / "banner.webp")
    place.survey()
    file = place.files()["banner.webp"]
    assert file.state == FileState.LEFT_ALONE
    assert "copy that Plum Crate made" in (file.reason or "")
    assert source_of(place.fresh_keeper(), file, COPY) is None, "never a second loss"


def test_a_moved_conversion_stands_for_its_first_file(database: Database, tmp_path: Path) -> None:
    place = Place(database, tmp_path, "2025/photo.png")
    keeper = place.fresh_keeper()
    keeper.write_derived(place.file, Beside(Purpose.CONVERSION, "jpeg", ".jpg"), b"converted", ChangeNote())
    keeper.withdraw(place.file, OLD, ChangeNote())
    (place.root / "2025").rename(place.root / "archive")
    place.survey()
    (file,) = place.files().values()
    assert (file.path, file.state) == ("archive/photo.png", FileState.REMOVED)
    assert handed_back(place) == {"archive/photo.png": OLD}


def test_a_conversion_deleted_by_somebody_takes_its_picture_along(database: Database, tmp_path: Path) -> None:
    place = Place(database, tmp_path, "2025/photo.png")
    keeper = place.fresh_keeper()
    keeper.write_derived(place.file, Beside(Purpose.CONVERSION, "jpeg", ".jpg"), b"converted", ChangeNote())
    keeper.withdraw(place.file, OLD, ChangeNote())
    shutil.rmtree(place.root / "2025")
    place.survey()
    assert place.file.state == FileState.GONE
    assert [row.path for row in listed(place)] == ["2025/photo.png"]


def listed(place: Place) -> list:
    with place.database.begin() as session:
        return orphans(session, 1, None, 100).rows


def test_a_change_cut_off_in_a_folder_that_was_moved_meanwhile(database: Database, tmp_path: Path) -> None:
    place = Place(database, tmp_path, "2025/a.jpg")
    place.keeper.ensure_identity()
    place.killed_at("replace", Step.EXCHANGED)
    (place.root / "2025").rename(place.root / "archive")
    assert recover(place.fresh_keeper()).open == 1
    place.survey()
    (file,) = place.files().values()
    assert (file.path, file.sha256, file.before_sha256) == ("archive/a.jpg", sha(NEW), sha(OLD))
    assert place.open_changes() == 0
    assert os.listdir(place.root / "archive") == ["a.jpg"]
    assert handed_back(place) == {"archive/a.jpg": OLD}


def test_a_link_to_a_folder_gives_no_file_a_second_name(place: Place) -> None:
    (place.root / "latest").symlink_to(place.root / "2025")
    (place.root / "2025/self").symlink_to(place.root)
    done = place.survey()
    assert (done.files_new, done.files_changed, list(place.files())) == (0, 0, ["2025/a.jpg"])
    with place.database.begin() as session:
        library = session.get_one(Library, 1)
        note_arrivals(session, library, ["latest/a.jpg", "2025/self/2025/a.jpg", "latest"])
    assert take_in(place, library).busy == {}
    assert list(place.files()) == ["2025/a.jpg"]
    assert place.files()["2025/a.jpg"].before_sha256 == sha(OLD)
    assert handed_back(place) == {"2025/a.jpg": OLD}


@pytest.mark.parametrize(("told", "at_once"), [((False,), False), ((True,), True), ((True, False), True)])
def test_what_is_said_to_be_whole_need_not_settle(
    place: Place, told: tuple[bool, ...], at_once: bool
) -> None:
    (place.root / "2025/b.jpg").write_bytes(OLD + b"another")
    with place.database.begin() as session:
        library = session.get_one(Library, 1)
        for whole in told:  # the site says so; the watcher sees it too
            note_arrivals(session, library, ["2025/b.jpg"], whole=whole)
    taken = take_in_settled(place.database, place.fresh_keeper(), library)
    assert bool(taken.pictures) is at_once
    assert ("2025/b.jpg" in place.files()) is at_once


def test_a_deleted_picture_can_be_had_again(place: Place) -> None:
    (place.root / "2025/a.jpg").unlink()
    place.survey()
    assert place.files()["2025/a.jpg"].state == FileState.GONE
    assert not (place.root / "2025/a.jpg.webp").exists()
    assert prune(place.fresh_keeper(), Which(true()), note="").backups == 0, "not by default"
    assert [row.path for row in listed(place)] == ["2025/a.jpg"]
    place.fresh_keeper().put_back_as(sha(OLD), "2025/again.jpg", ChangeNote())
    place.survey()
    assert (place.root / "2025/again.jpg").read_bytes() == OLD
    assert listed(place) == [], "its bytes stand in the library"
    with pytest.raises(StorageError) as caught:
        place.fresh_keeper().put_back_as(sha(OLD), "2025/again.jpg", ChangeNote())
    assert caught.value.code == "name-taken"
    assert prune(place.fresh_keeper(), Which(true()), note="").backups == 1


def test_a_deleted_picture_is_restored_by_name_too(place: Place) -> None:
    (place.root / "2025/a.jpg").unlink()
    place.survey()
    *_, report = verify(place.fresh_keeper(), mend=False)
    assert report.differences == 0
    place.fresh_keeper().restore(place.file, ChangeNote())
    assert place.bytes() == OLD


def test_a_deleted_folder_keeps_no_hand_back_incomplete(place: Place) -> None:
    shutil.rmtree(place.root / "2025")
    place.survey()
    with place.database.begin() as session:
        library = session.get_one(Library, 1)
        request = RunRequest(library="l", kind=RunKind.HAND_BACK, confirm="l")
        run = create_run(session, library, request)
        assert run.files == 0
    from plumcrate.jobs.maintenance import prove_hand_back

    prove_hand_back(place.database, run.id, place.fresh_keeper())
    with place.database.begin() as session:
        proof = session.get_one(type(run), run.id).proof
    assert proof is not None
    assert proof["verdict"] == "complete"
    assert not (place.root / IDENTITY_NAME).exists()


def test_an_overwritten_picture_leaves_its_first_original_among_the_orphans(place: Place) -> None:
    (place.root / "2025/a.jpg").write_bytes(b"an editor's new version")
    place.survey()
    file = place.files()["2025/a.jpg"]
    assert (file.sha256, file.before_sha256) == (None, None)
    assert [row.path for row in listed(place)] == ["2025/a.jpg"]
    assert prune(place.fresh_keeper(), Which(true()), note="").backups == 0
    assert prune(place.fresh_keeper(), Which(true(), orphans=True), note="").backups == 1


def test_the_original_put_back_by_somebody_is_an_original_again(place: Place) -> None:
    (place.root / "2025/a.jpg").write_bytes(OLD)
    place.survey()
    file = place.files()["2025/a.jpg"]
    assert (file.state, file.sha256, file.before_sha256) != (FileState.LIGHTER, sha(NEW), sha(OLD))
    assert file.sha256 is None
    assert listed(place) == []
    assert not (place.root / "2025/a.jpg.webp").exists()


def test_what_a_person_put_back_is_not_treated_by_itself(place: Place) -> None:
    place.fresh_keeper().restore(place.file, ChangeNote(), hold=True)
    with place.database.begin() as session:
        library = session.get_one(Library, 1)
        for origin in (RunOrigin.SCHEDULE, RunOrigin.ARRIVAL):
            run = create_run(session, library, RunRequest(library="l"), origin)
            assert run.files == 0
        session.flush()
    assert treat_all(place, scope=Scope(folder="2025")) == ["2025/a.jpg"], "a person says otherwise"


def test_a_library_that_was_handed_back_is_at_rest(place: Place) -> None:
    with place.database.begin() as session:
        library = session.get_one(Library, 1)
        create_run(session, library, RunRequest(library="l", kind=RunKind.HAND_BACK, confirm="l"))
    with place.database.begin() as session:
        library = session.get_one(Library, 1)
        assert library.dormant
        note_arrivals(session, library, ["2025/new.jpg"], mode="at-once")  # type: ignore[arg-type]
    (place.root / "2025/new.jpg").write_bytes(b"an unrelated arrival")
    taken = take_in(place, library)
    assert (len(taken.pictures), taken.runs) == (1, []), "noted, and not treated"
    treat_all(place)
    with place.database.begin() as session:
        assert not session.get_one(Library, 1).dormant


def test_history_stays_with_a_file_whose_name_somebody_else_took(place: Place) -> None:
    """a.jpg is moved away and another picture put under its name, before anybody looked."""
    (place.root / "2025/a.jpg").rename(place.root / "2025/old.jpg")
    (place.root / "2025/a.jpg").write_bytes(b"another picture")
    place.survey()
    files = place.files()
    assert files["2025/a.jpg"].sha256 is None
    assert files["2025/old.jpg"].before_sha256 == sha(OLD)
    assert isinstance(files["2025/old.jpg"], File)
    assert handed_back(place) == {"2025/a.jpg": b"another picture", "2025/old.jpg": OLD}
