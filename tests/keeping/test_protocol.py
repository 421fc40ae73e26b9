"""The change protocol under a power cut at every step, a full disk, and somebody else writing.

Promise: after recovery a file holds its old or its new bytes, whole; the backup is in the store
whenever the new ones are in place; records and disk agree; nothing of ours lies about.
"""

import errno
import hashlib
import io
import os
from pathlib import Path

import pytest
from place import COPY, NEW, OLD, SENT, Place, sha
from sqlalchemy import func, select, true
from sqlalchemy.exc import OperationalError

from plumcrate.contract.pictures import Purpose
from plumcrate.keeping import steps
from plumcrate.keeping.changes import ChangeNote, Overtaken, Replace
from plumcrate.keeping.derived import Beside
from plumcrate.keeping.prune import Which, finish_pruning, older_than, prune
from plumcrate.keeping.recovery import recover
from plumcrate.keeping.steps import Step
from plumcrate.keeping.verify import verify
from plumcrate.records.database import Database
from plumcrate.records.tables import Backup, Ledger
from plumcrate.storage.errors import StorageError
from plumcrate.storage.names import STAGED_PREFIX


@pytest.fixture
def place(database: Database, tmp_path: Path) -> Place:
    return Place(database, tmp_path)


@pytest.mark.parametrize("step", list(Step)[: list(Step).index(Step.SELECTED)])
def test_killed_while_replacing(place: Place, step: Step) -> None:
    place.killed_at("replace", step)
    recover(place.keeper)
    place.check()
    if place.bytes() == OLD:
        place.keeper.replace(place.file, OLD, NEW, ChangeNote())
    place.check()
    place.keeper.restore(place.file, ChangeNote())
    assert place.bytes() == OLD


@pytest.mark.parametrize("step", [Step.JOURNALLED, Step.STAGED, Step.EXCHANGED, Step.RECORDED])
def test_killed_while_writing_a_copy(place: Place, step: Step) -> None:
    place.killed_at("copy", step)
    recover(place.keeper)
    place.check()
    place.keeper.write_derived(place.file, Beside(Purpose.COPY, "webp"), COPY, ChangeNote())
    place.check()
    assert (place.root / "a.jpg.webp").read_bytes() == COPY


@pytest.mark.parametrize(
    "step", [Step.JOURNALLED, Step.STAGED, Step.EXCHANGED, Step.CHECKED, Step.RECORDED, Step.CLEANED]
)
def test_killed_while_restoring(place: Place, step: Step) -> None:
    place.keeper.replace(place.file, OLD, NEW, ChangeNote())
    place.keeper.write_derived(place.file, Beside(Purpose.COPY, "webp"), COPY, ChangeNote())
    place.killed_at("restore", step)
    recover(place.keeper)
    place.check()
    place.keeper.restore(place.file, ChangeNote())
    place.check()
    assert place.bytes() == OLD
    assert place.names() == ["a.jpg"]
    assert (place.root / "a.jpg").stat().st_mtime_ns == 10**18


@pytest.mark.parametrize("treated", [False, True])
@pytest.mark.parametrize("step", [*list(Step)[: list(Step).index(Step.SELECTED)], "half-swapped"])
def test_killed_while_another_file_takes_the_place(place: Place, step: Step | str, treated: bool) -> None:
    if treated:
        place.keeper.replace(place.file, OLD, NEW, ChangeNote())
    stood = place.bytes()
    place.killed_at("supersede", step, exchanges=step != "half-swapped")
    recover(place.fresh_keeper())
    assert place.bytes() in (stood, SENT)
    assert place.open_changes() == 0
    assert place.names() == ["a.jpg"]
    place.survey()
    if place.bytes() == stood:
        place.fresh_keeper().supersede(place.file, io.BytesIO(SENT), ChangeNote())
        place.survey()
    assert place.bytes() == SENT
    assert place.keeper.backups.get(sha(OLD)) == OLD
    file = place.file
    assert (file.sha256, file.before_sha256, file.size_before) == (None, None, len(SENT))


def test_a_file_that_was_written_to_is_not_superseded(place: Place) -> None:
    (place.root / "a.jpg").write_bytes(b"an editor's new version")
    with pytest.raises(Overtaken):
        place.keeper.supersede(place.file, io.BytesIO(SENT), ChangeNote())
    assert place.bytes() == b"an editor's new version"


def test_somebody_writes_in_between(place: Place, monkeypatch: pytest.MonkeyPatch) -> None:
    def meddle(step: Step) -> None:
        if step is Step.STAGED:
            (place.root / "a.jpg").write_bytes(b"from somebody else")

    monkeypatch.setattr(steps, "observer", meddle)
    with pytest.raises(Overtaken, match="somebody else"):
        place.keeper.replace(place.file, OLD, NEW, ChangeNote())
    assert place.bytes() == b"from somebody else"
    assert place.names() == ["a.jpg"]
    assert place.keeper.backups.get(hashlib.sha256(OLD).digest()) == OLD


def test_somebody_changed_a_treated_file_so_restore_leaves_it(place: Place) -> None:
    place.keeper.replace(place.file, OLD, NEW, ChangeNote())
    (place.root / "a.jpg").write_bytes(b"an editor's new version")
    with pytest.raises(Overtaken):
        place.keeper.restore(place.file, ChangeNote())
    assert place.bytes() == b"an editor's new version"


#: What the calls of fsync are for, in order, when a first file is replaced.
SYNCS = (
    "identity",
    "identity's name",
    "backup store",
    "backup folder",
    "backup file",
    "backup name",
    "staged file",
    "library folder",
)


@pytest.mark.parametrize("moment", SYNCS)
def test_a_full_disk_leaves_disk_and_records_agreed(
    place: Place, monkeypatch: pytest.MonkeyPatch, moment: str
) -> None:
    real, calls = os.fsync, 0

    def fsync(descriptor: int) -> None:
        nonlocal calls
        calls += 1
        if calls == SYNCS.index(moment) + 1:
            raise OSError(errno.ENOSPC, "No space left on device")
        real(descriptor)

    monkeypatch.setattr(os, "fsync", fsync)
    if moment == "library folder":  # the exchange has happened, and is kept
        place.keeper.replace(place.file, OLD, NEW, ChangeNote())
        assert place.bytes() == NEW
    else:
        with pytest.raises(StorageError) as caught:
            place.keeper.replace(place.file, OLD, NEW, ChangeNote())
        assert caught.value.code == "disk-full"
        assert place.bytes() == OLD
    assert calls >= SYNCS.index(moment) + 1
    monkeypatch.undo()
    place.check()


def test_a_copy_never_takes_somebody_elses_name(place: Place) -> None:
    (place.root / "a.jpg.webp").write_bytes(b"theirs")
    with pytest.raises(StorageError) as caught:
        place.keeper.write_derived(place.file, Beside(Purpose.COPY, "webp"), COPY, ChangeNote())
    assert caught.value.code == "name-taken"
    assert (place.root / "a.jpg.webp").read_bytes() == b"theirs"


def test_a_copy_that_somebody_changed_is_left_when_ours_are_dropped(place: Place) -> None:
    place.keeper.write_derived(place.file, Beside(Purpose.COPY, "webp"), COPY, ChangeNote())
    (place.root / "a.jpg.webp").write_bytes(b"theirs now")
    place.keeper.drop_all_derived(place.file, ChangeNote())
    assert (place.root / "a.jpg.webp").read_bytes() == b"theirs now"
    assert not place.file.derived


def test_a_damaged_backup_is_never_put_in_place(place: Place) -> None:
    place.keeper.replace(place.file, OLD, NEW, ChangeNote())
    place.keeper.backups.place(hashlib.sha256(OLD).digest()).write_bytes(b"bit rot")
    with pytest.raises(StorageError, match="damaged"):
        place.keeper.restore(place.file, ChangeNote())
    assert place.bytes() == NEW


def test_the_ledger_tells_the_story(place: Place) -> None:
    place.keeper.replace(place.file, OLD, NEW, ChangeNote(score=81.0))
    place.keeper.write_derived(place.file, Beside(Purpose.COPY, "webp"), COPY, ChangeNote())
    place.keeper.restore(place.file, ChangeNote())
    with place.database.begin() as session:
        actions = list(session.scalars(select(Ledger.action).order_by(Ledger.id)))
    assert actions == [
        "replace",
        "copy",
        "restore",
        "drop-copy",
    ]


@pytest.mark.parametrize(
    "step",
    [Step.BACKED_UP, Step.JOURNALLED, Step.EXCHANGED, Step.CHECKED, Step.CLEANED, Step.RECORDED],
)
def test_killed_while_a_first_file_makes_way(place: Place, step: Step) -> None:
    place.killed_at("withdraw", step)
    recover(place.keeper)
    here = (place.root / "a.jpg").exists()
    if here:
        assert place.bytes() == OLD
        place.check()
        place.keeper.withdraw(place.file, OLD, ChangeNote())
    assert place.names() == []
    assert place.file.state == "removed"
    assert place.keeper.backups.get(hashlib.sha256(OLD).digest()) == OLD
    place.killed_at("restore", Step.STAGED)
    recover(place.keeper)
    assert place.names() == []
    place.keeper.restore(place.file, ChangeNote())
    place.check()
    assert (place.bytes(), place.file.state) == (OLD, "new")


def test_a_first_file_never_comes_back_over_somebody_elses(place: Place) -> None:
    place.keeper.withdraw(place.file, OLD, ChangeNote())
    (place.root / "a.jpg").write_bytes(b"theirs")
    with pytest.raises(Overtaken):
        place.keeper.restore(place.file, ChangeNote())
    assert place.bytes() == b"theirs"
    place.keeper.restore(place.file, ChangeNote(), overwrite=True)
    assert place.bytes() == OLD
    assert place.keeper.backups.get(hashlib.sha256(b"theirs").digest()) == b"theirs"


@pytest.mark.parametrize("step", [Step.SELECTED, Step.DELETED])
def test_killed_while_pruning(place: Place, step: Step) -> None:
    place.keeper.replace(place.file, OLD, NEW, ChangeNote())
    place.killed_at("prune", step)
    finish_pruning(place.keeper)
    assert place.bytes() == NEW
    assert (place.file.before_sha256, list(place.keeper.backups.all())) == (None, [])
    with place.database.begin() as session:
        assert session.scalar(select(func.count()).select_from(Backup)) == 0
    with pytest.raises(StorageError) as caught:
        place.keeper.restore(place.file, ChangeNote())
    assert caught.value.code == "no-backup"


def test_pruning_spares_the_only_original_unless_told_otherwise(place: Place) -> None:
    place.keeper.replace(place.file, OLD, NEW, ChangeNote())
    place.keeper.back_up(b"of nobody", hashlib.sha256(b"of nobody").digest())
    done = prune(place.keeper, Which(true()), note="")
    assert (done.backups, done.needed, done.left) == (0, 0, 2), "nobody has seen its bytes since"
    done = prune(place.keeper, Which(true(), orphans=True), note="")
    assert (done.backups, done.needed, done.left) == (1, 0, 1)
    assert prune(place.keeper, Which(older_than(1), needed=True), note="").backups == 0
    place.keeper.restore(place.file, ChangeNote())
    assert place.bytes() == OLD
    assert prune(place.keeper, Which(true()), note="").backups == 1


def test_what_the_workers_upkeep_deletes_beside_us_is_counted_too(
    place: Place, monkeypatch: pytest.MonkeyPatch
) -> None:
    for one in (b"of nobody", b"of nobody else"):
        place.keeper.back_up(one, hashlib.sha256(one).digest())
    upkeep: list[int] = []

    def beside(step: Step) -> None:
        if step is Step.SELECTED:
            monkeypatch.setattr(steps, "observer", lambda _: None)
            upkeep.append(finish_pruning(place.fresh_keeper()))

    monkeypatch.setattr(steps, "observer", beside)
    done = prune(place.keeper, Which(true(), orphans=True), note="")
    assert (upkeep, done.backups, done.bytes, done.left) == ([2], 2, len(b"of nobodyof nobody else"), 0)


def test_a_backup_that_a_change_relies_on_is_not_pruned_away(
    place: Place, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Pruning at every step of a replacement: the change goes through with its backup, or not at all."""
    for moment in (Step.BACKED_UP, Step.JOURNALLED, Step.STAGED, Step.EXCHANGED, Step.CLEANED):

        def meddle(step: Step, moment: Step = moment) -> None:
            if step is moment:
                monkeypatch.setattr(steps, "observer", lambda _: None)
                prune(place.keeper, Which(true(), orphans=True), note="")

        monkeypatch.setattr(steps, "observer", meddle)
        if moment is Step.BACKED_UP:
            with pytest.raises(StorageError, match="deleted meanwhile"):
                place.keeper.replace(place.file, OLD, NEW, ChangeNote())
            assert place.bytes() == OLD
            continue
        place.keeper.replace(place.file, OLD, NEW, ChangeNote())
        place.check()
        place.keeper.restore(place.file, ChangeNote())
        assert place.bytes() == OLD


def test_without_backups_nothing_can_be_put_back_and_that_is_said(place: Place) -> None:
    place.keeper.replace(place.file, OLD, NEW, ChangeNote(), backup=False)
    assert (place.bytes(), place.file.before_sha256, list(place.keeper.backups.all())) == (NEW, None, [])
    with pytest.raises(StorageError, match="has no backup"):
        place.keeper.restore(place.file, ChangeNote(), overwrite=True)
    assert place.bytes() == NEW


def test_a_store_that_is_full_by_its_limit_changes_nothing(place: Place) -> None:
    with pytest.raises(StorageError) as caught:
        place.keeper.replace(place.file, OLD, NEW, ChangeNote(), store_limit=len(OLD) - 1)
    assert caught.value.code == "backups-full"
    assert place.bytes() == OLD
    place.check()
    place.keeper.replace(place.file, OLD, NEW, ChangeNote(), store_limit=len(OLD))
    place.check()


def test_mode_attributes_and_time_are_kept(place: Place) -> None:
    path = place.root / "a.jpg"
    path.chmod(0o640)
    try:
        os.setxattr(path, "user.caption", b"the lamp")
    except OSError:
        pytest.skip("this file system has no extended attributes")
    os.utime(path, ns=(10**18, 10**18))
    place.keeper.replace(place.file, OLD, NEW, ChangeNote(), keep_times=True)
    facts = path.stat()
    assert (facts.st_mode & 0o777, facts.st_mtime_ns) == (0o640, 10**18)
    assert os.getxattr(path, "user.caption") == b"the lamp"


def test_a_hard_link_keeps_the_old_bytes_under_its_other_name(place: Place) -> None:
    os.link(place.root / "a.jpg", place.root / "b.jpg")
    place.keeper.replace(place.file, OLD, NEW, ChangeNote())
    assert (place.bytes(), (place.root / "b.jpg").read_bytes()) == (NEW, OLD)
    with place.database.begin() as session:
        assert session.scalars(select(Ledger)).one().detail["links"] == 2


def mended(place: Place, *, mend: bool) -> dict[str, bool]:
    *_, report = verify(place.keeper, mend=mend)
    assert report.differences == len(report.findings)
    return {finding.what: finding.mended for finding in report.findings}


def test_verify_finds_every_difference_and_mends_what_needs_no_choice(place: Place) -> None:
    place.keeper.replace(place.file, OLD, NEW, ChangeNote())
    place.keeper.write_derived(place.file, Beside(Purpose.COPY, "webp"), COPY, ChangeNote())
    assert mended(place, mend=True) == {}
    os.utime(place.root / "a.jpg", ns=(5, 5))
    (place.root / "a.jpg.webp").unlink()
    (place.root / f"{STAGED_PREFIX}0123").write_bytes(b"left over")
    stray = hashlib.sha256(b"no record").digest()
    place.keeper.backups.put(b"no record", stray)
    found = {"time-changed": False, "copy-missing": False, "stray": False, "backup-unknown": False}
    assert mended(place, mend=False) == found
    assert mended(place, mend=True) == dict.fromkeys(found, True)
    assert mended(place, mend=True) == {}
    place.check()
    (place.root / "a.jpg").write_bytes(b"an editor's")
    place.keeper.backups.delete(hashlib.sha256(OLD).digest())
    assert mended(place, mend=True) == {"file-changed": False, "backup-missing": False}
    (place.root / "a.jpg").write_bytes(OLD)
    assert mended(place, mend=True) == {"file-changed": False, "backup-missing": True}
    assert place.keeper.backups.get(hashlib.sha256(OLD).digest()) == OLD


def test_a_lost_database_connection_leaves_a_change_that_recovery_ends(
    place: Place, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(Replace, "finish", _away)
    with pytest.raises(OperationalError):
        place.keeper.replace(place.file, OLD, NEW, ChangeNote())
    monkeypatch.undo()
    assert place.bytes() == NEW
    recover(place.keeper)
    place.check()


def _away(*_: object) -> None:
    raise OperationalError("UPDATE files", {}, Exception("server closed the connection unexpectedly"))
