"""Somebody else is at the same file: they write in place, put a folder there, let a backup rot."""

import os
from pathlib import Path

import pytest
from place import COPY, NEW, OLD, Place, sha
from sqlalchemy import select, text, true, update

from plumcrate.contract.pictures import Purpose
from plumcrate.jobs.maintenance import Retention
from plumcrate.keeping import steps
from plumcrate.keeping.changes import ChangeNote, InUse, Overtaken
from plumcrate.keeping.changes import base as base_module
from plumcrate.keeping.derived import Beside
from plumcrate.keeping.prune import Which, older_than, prune
from plumcrate.keeping.recovery import recover
from plumcrate.keeping.state import StateFolder
from plumcrate.keeping.steps import Step
from plumcrate.keeping.verify import verify
from plumcrate.records.database import Database
from plumcrate.records.tables import Backup, Journal, Library
from plumcrate.settings import Settings
from plumcrate.storage.errors import StorageError
from plumcrate.storage.names import STAGED_PREFIX


@pytest.fixture
def place(database: Database, tmp_path: Path) -> Place:
    return Place(database, tmp_path)


def hidden(place: Place) -> list[str]:
    return [name for name in os.listdir(place.root) if name.startswith(STAGED_PREFIX)]


def test_who_has_the_file_open_for_writing_is_noticed_and_wins(place: Place) -> None:
    with (place.root / "a.jpg").open("r+b") as editor:
        with pytest.raises(InUse, match="open for writing"):
            place.keeper.replace(place.file, OLD, NEW, ChangeNote())
        editor.write(b"THE EDIT")
        os.fsync(editor.fileno())
    assert place.bytes() == b"THE EDIT" + OLD[8:]
    assert (hidden(place), place.open_changes()) == ([], 0)
    with (place.root / "a.jpg").open("r+b"), pytest.raises(InUse):
        place.keeper.withdraw(place.file, place.bytes(), ChangeNote())
    assert place.bytes().startswith(b"THE EDIT")


def test_an_editor_who_writes_after_the_exchange(place: Place, monkeypatch: pytest.MonkeyPatch) -> None:
    """It opened the file before, and writes and closes while the change is under way: theirs stays."""
    editor = (place.root / "a.jpg").open("r+b")

    def write(step: Step) -> None:
        if step is Step.EXCHANGED:
            editor.write(b"THE EDIT")
            editor.flush()
            os.fsync(editor.fileno())
            editor.close()

    monkeypatch.setattr(steps, "observer", write)
    with pytest.raises(Overtaken):
        place.keeper.replace(place.file, OLD, NEW, ChangeNote())
    assert place.bytes() == b"THE EDIT" + OLD[8:]
    assert hidden(place) == []


@pytest.mark.parametrize("moment", ["before", "after"])
def test_where_the_system_does_not_tell_the_replaced_file_is_kept_a_while(
    database: Database, tmp_path: Path, moment: str
) -> None:
    place = Place(database, tmp_path)
    keeper = place.fresh_keeper(leases=False)
    editor = (place.root / "a.jpg").open("r+b")
    keeper.replace(place.file, OLD, NEW, ChangeNote())
    assert place.bytes() == NEW
    (aside,) = hidden(place)
    assert (place.root / aside).read_bytes() == OLD
    assert recover(keeper).open == 1, "its time has not come"
    if moment == "before":
        editor.write(b"THE EDIT")
    editor.close()
    with database.begin() as session:
        session.execute(update(Journal).values(due_at=text("now()")))
    recover(keeper)
    assert place.bytes() == (b"THE EDIT" + OLD[8:] if moment == "before" else NEW)
    assert (hidden(place), place.open_changes()) == ([], 0)
    assert keeper.backups.get(sha(OLD)) == OLD
    if moment == "before":
        place.survey()
        assert place.file.sha256 is None, "it is their picture now"


def test_the_grace_is_long_enough_to_matter() -> None:
    assert base_module.GRACE >= 10


@pytest.mark.parametrize("kind", ["folder", "link"])
@pytest.mark.parametrize("step", [Step.JOURNALLED, Step.STAGED])
def test_a_folder_or_link_put_in_the_files_place(
    place: Place, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, kind: str, step: Step
) -> None:
    (tmp_path / "outside").write_bytes(b"of somebody else")

    def put(passed: Step) -> None:
        if passed is step:
            (place.root / "a.jpg").unlink()
            if kind == "folder":
                (place.root / "a.jpg/inside").mkdir(parents=True)
            else:
                (place.root / "a.jpg").symlink_to(tmp_path / "outside")

    monkeypatch.setattr(steps, "observer", put)
    with pytest.raises(StorageError):
        place.keeper.replace(place.file, OLD, NEW, ChangeNote())
    monkeypatch.undo()
    recover(place.fresh_keeper())
    found = place.root / "a.jpg"
    assert (found / "inside").is_dir() if kind == "folder" else found.is_symlink()
    assert (tmp_path / "outside").read_bytes() == b"of somebody else"
    assert (hidden(place), place.open_changes()) == ([], 0)
    assert place.keeper.backups.get(sha(OLD)) == OLD


def test_a_change_that_cannot_be_settled_keeps_no_other_from_it(place: Place) -> None:
    place.killed_at("copy", Step.STAGED)
    with place.database.begin() as session:
        stuck = session.scalars(select(Journal)).one()
        session.add(
            Journal(
                library_id=1,
                file_id=1,
                action="replace",
                path="a.jpg",
                staged=f"{STAGED_PREFIX}taken",
                before_sha256=sha(b"x"),
                after_sha256=sha(b"y"),
                detail={"folder": "another"},
            )
        )
        stuck_id = stuck.id
    (place.root / f"{STAGED_PREFIX}taken").mkdir()
    outcome = recover(place.fresh_keeper())
    assert (outcome.open, outcome.undone) == (1, 1)
    with place.database.begin() as session:
        assert session.get(Journal, stuck_id) is None


@pytest.mark.parametrize("step", ["linked", "half-swapped"])
def test_killed_between_the_renames_where_names_cannot_be_exchanged(place: Place, step: str) -> None:
    place.keeper.ensure_identity()
    place.killed_at("replace", step, exchanges=False)
    assert hidden(place)
    recover(place.fresh_keeper(exchanges=False))
    place.check()
    assert place.bytes() == (OLD if step == "linked" else NEW)


def test_somebodys_bytes_that_came_out_of_half_a_swap_are_put_back(place: Place) -> None:
    place.keeper.ensure_identity()
    (place.root / "a.jpg").write_bytes(b"from somebody else")
    place.killed_at("replace", "half-swapped", exchanges=False)
    recover(place.fresh_keeper(exchanges=False))
    assert place.bytes() == b"from somebody else"
    assert (hidden(place), place.open_changes()) == ([], 0)


def test_a_file_put_there_in_the_middle_of_half_a_swap_wins_its_name_back(
    place: Place, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Found by random schedules: the first file had its third name, and then somebody's took its place."""
    link = os.link

    def link_and_overwrite(*names: str, **where: int) -> None:
        link(*names, **where)
        (place.root / "theirs").write_bytes(b"from somebody else")
        os.rename(place.root / "theirs", place.root / "a.jpg")

    keeper = place.fresh_keeper(exchanges=False)
    keeper.ensure_identity()
    monkeypatch.setattr(os, "link", link_and_overwrite)
    with pytest.raises(Overtaken):
        keeper.replace(place.file, OLD, NEW, ChangeNote())
    monkeypatch.undo()
    assert place.bytes() == b"from somebody else"
    assert (hidden(place), place.open_changes()) == ([], 0)
    assert keeper.backups.get(sha(OLD)) == OLD


def test_a_damaged_backup_of_the_right_size_is_made_whole_before_the_last_original_goes(place: Place) -> None:
    keeper = place.fresh_keeper()
    keeper.replace(place.file, OLD, NEW, ChangeNote())
    keeper.restore(place.file, ChangeNote())
    keeper.backups.place(sha(OLD)).write_bytes(b"x" * len(OLD))
    keeper.replace(place.file, OLD, NEW, ChangeNote())
    assert keeper.backups.get(sha(OLD)) == OLD
    keeper.restore(place.file, ChangeNote())
    keeper.backups.place(sha(OLD)).write_bytes(b"y" * len(OLD))
    keeper.withdraw(place.file, OLD, ChangeNote())
    assert keeper.backups.get(sha(OLD)) == OLD
    assert (place.root / "a.jpg").exists() is False
    keeper.restore(place.file, ChangeNote())
    assert place.bytes() == OLD


def test_a_backups_folder_is_durable_before_it_counts(place: Place, monkeypatch: pytest.MonkeyPatch) -> None:
    """A process died after it made the folder and before the folder's name was durable."""
    keeper = place.fresh_keeper()
    keeper.backups.place(sha(OLD)).parent.mkdir(parents=True)
    synced: list[Path] = []
    from plumcrate.keeping import backups as module

    real = module.sync_folder
    monkeypatch.setattr(module, "sync_folder", lambda folder: (synced.append(folder), real(folder)))
    keeper.back_up(OLD, sha(OLD))
    assert {place.store, place.store.parent, keeper.backups.place(sha(OLD)).parent} <= set(synced)


def retention_of(place: Place) -> Retention:
    settings = Settings(database_url=place.database.url, state_dir=place.store)
    return Retention(place.database, StateFolder(place.database, place.store), settings)


def test_retention_goes_by_days_seen_and_not_by_a_clock_that_was_wrong(place: Place) -> None:
    keeper = place.fresh_keeper()
    keeper.replace(place.file, OLD, NEW, ChangeNote())
    with place.database.begin() as session:
        library = session.get_one(Library, 1)
        library.automation = {"keep_backups_days": 3}
        # As though the clock had stood years ago when the backup was made, or years ahead now.
        session.execute(update(Backup).values(created_at=text("now() - interval '10 years'")))
    retention = retention_of(place)
    retention.tend(lambda _: keeper, [library])
    for _ in range(5):
        retention.look(keeper, library, reporting=False)
    assert keeper.backups.get(sha(OLD)) == OLD, "one day was seen, however often it was looked"
    for day in range(2):
        with place.database.begin() as session:
            session.execute(update(Library).values(day_seen=text(f"current_date - {2 - day}")))
        gone = retention.look(keeper, library, reporting=day == 1)
    assert gone == 0, "the first look after a start only reports"
    assert retention.look(keeper, library, reporting=False) == 1
    assert place.file.before_sha256 is None


def test_a_clock_ahead_makes_no_backup_old_for_a_person_either(place: Place) -> None:
    keeper = place.fresh_keeper()
    keeper.replace(place.file, OLD, NEW, ChangeNote())
    with place.database.begin() as session:
        session.execute(update(Library).values(days_seen=50))
        session.execute(update(Backup).values(created_at=text("now() + interval '10 years'")))
    assert prune(keeper, Which(older_than(1), needed=True), note="").backups == 0


def test_an_uploads_staged_file_has_a_journal_row_and_is_not_mended_away(
    place: Place, monkeypatch: pytest.MonkeyPatch
) -> None:
    keeper = place.fresh_keeper()
    found: list[tuple[int, list[str]]] = []

    def look(step: Step) -> None:
        if step is Step.STAGED:
            monkeypatch.setattr(steps, "observer", lambda _: None)
            list(verify(place.fresh_keeper(), mend=True))
            found.append((place.open_changes(), hidden(place)))

    monkeypatch.setattr(steps, "observer", look)
    keeper.upload("new.jpg", b"sent by somebody", ChangeNote())
    assert (place.root / "new.jpg").read_bytes() == b"sent by somebody"
    assert [(count, len(names)) for count, names in found] == [(1, 1)]


@pytest.mark.parametrize("step", [Step.JOURNALLED, Step.STAGED, Step.EXCHANGED, Step.RECORDED])
def test_killed_while_taking_an_upload(place: Place, step: Step) -> None:
    place.killed_at("upload", step)
    recover(place.fresh_keeper())
    assert (hidden(place), place.open_changes()) == ([], 0)
    if step in (Step.EXCHANGED, Step.RECORDED):
        assert (place.root / "new.jpg").read_bytes() == b"sent by somebody"
    else:
        assert not (place.root / "new.jpg").exists()


def test_a_stray_with_bytes_that_nothing_keeps_is_backed_up_before_it_goes(place: Place) -> None:
    keeper = place.fresh_keeper()
    keeper.replace(place.file, OLD, NEW, ChangeNote())
    (place.root / f"{STAGED_PREFIX}0123").write_bytes(b"somebody's only copy")
    *_, report = verify(keeper, mend=True)
    assert [(finding.what, finding.mended) for finding in report.findings] == [("stray", True)]
    assert hidden(place) == []
    assert keeper.backups.get(sha(b"somebody's only copy")) == b"somebody's only copy"


def test_a_copy_that_somebody_is_writing_to_is_left_to_them(place: Place) -> None:
    place.keeper.write_derived(place.file, Beside(Purpose.COPY, "webp"), COPY, ChangeNote())
    with (place.root / "a.jpg.webp").open("r+b") as other:
        place.keeper.drop_all_derived(place.file, ChangeNote())
        other.write(b"THEIRS")
    assert (place.root / "a.jpg.webp").read_bytes() == b"THEIRS"
    assert place.file.derived == []


def test_orphans_have_a_term_of_their_own(place: Place) -> None:
    keeper = place.fresh_keeper()
    keeper.replace(place.file, OLD, NEW, ChangeNote())
    (place.root / "a.jpg").unlink()
    place.survey()
    with place.database.begin() as session:
        library = session.get_one(Library, 1)
        library.automation = {"keep_orphans_days": 2}
        library.days_seen = 5
        session.execute(update(Backup).values(created_at=text("now() - interval '5 days'")))
    assert retention_of(place).look(keeper, library, reporting=False) == 1
    assert prune(keeper, Which(true(), orphans=True), note="").backups == 0
