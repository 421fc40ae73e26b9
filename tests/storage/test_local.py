"""A folder on a disk: nothing leaves it, nothing is half written, nothing of others is overwritten."""

import errno
import os
import time
from pathlib import Path

import pytest

from plumcrate.storage import handles
from plumcrate.storage import local as module
from plumcrate.storage.errors import NotThere, StorageError
from plumcrate.storage.local import LocalStore
from plumcrate.storage.names import IDENTITY_NAME
from plumcrate.storage.store import NO_FILE, Writers


@pytest.fixture
def tree(tmp_path: Path) -> LocalStore:
    root = tmp_path / "root"
    (root / "a").mkdir(parents=True)
    (root / "a/one.jpg").write_bytes(b"one")
    (root / "a/two.jpg").write_bytes(b"two")
    return LocalStore(root)


def test_a_walk_lists_files_and_names_what_it_passes_over(tree: LocalStore, tmp_path: Path) -> None:
    (tmp_path / "outside.jpg").write_bytes(b"secret")
    (tree.root / "link.jpg").symlink_to(tmp_path / "outside.jpg")
    (tree.root / "away").symlink_to(tmp_path)
    (tree.root / ".hidden.jpg").write_bytes(b"")
    (tree.root / "näme with ünïcode.jpg").write_bytes(b"x")
    Path(os.fsdecode(os.fsencode(tree.root) + b"/caf\xe9.jpg")).write_bytes(b"latin")
    (tree.root / "new\nline.jpg").write_bytes(b"x")
    listings = [listing for _, listing in tree.walk()]
    assert {entry.path for listing in listings for entry in listing.files} == {
        "a/one.jpg",
        "a/two.jpg",
        "näme with ünïcode.jpg",
    }
    skipped = {one.path: one.reason for listing in listings for one in listing.skipped}
    assert skipped["link.jpg"] == skipped["away"] == "a symbolic link"
    assert "not valid UTF-8" in skipped["caf\\udce9.jpg"]
    assert "control character" in skipped["new\\x0aline.jpg"]


@pytest.mark.parametrize("by_steps", [False, True])
@pytest.mark.parametrize(
    "path", ["../outside.jpg", "a/../../outside.jpg", "away/outside.jpg", "deep/away/outside.jpg"]
)
def test_nothing_leads_out_and_no_link_is_followed(
    tree: LocalStore, tmp_path: Path, path: str, by_steps: bool, monkeypatch: pytest.MonkeyPatch
) -> None:
    if by_steps:
        monkeypatch.setattr(handles, "_OPENAT2", 100_000)  # a kernel without it
    (tmp_path / "outside.jpg").write_bytes(b"secret")
    (tree.root / "away").symlink_to(tmp_path)
    (tree.root / "deep").mkdir()
    (tree.root / "deep/away").symlink_to(tree.root)
    (tree.root / "outside.jpg").write_bytes(b"inside")
    for operation in (tree.read, tree.facts, tree.sha256, lambda name: tree.set_mtime(name, 5)):
        with pytest.raises(StorageError) as caught:
            operation(path)
        assert caught.value.code in ("bad-name", "folder-is-link")
    assert (tmp_path / "outside.jpg").read_bytes() == b"secret"
    assert tree.read("a/one.jpg") == b"one"


def test_a_link_is_not_read_through(tree: LocalStore, tmp_path: Path) -> None:
    (tmp_path / "outside.jpg").write_bytes(b"secret")
    (tree.root / "link.jpg").symlink_to(tmp_path / "outside.jpg")
    with pytest.raises(StorageError) as caught:
        tree.read("link.jpg")
    assert caught.value.code == "symbolic-link"
    assert tree.sha256("link.jpg") == NO_FILE


def test_a_pipe_in_a_files_place_hangs_nobody(tree: LocalStore) -> None:
    os.mkfifo(tree.root / "pipe.jpg")
    began = time.monotonic()
    assert tree.sha256("pipe.jpg") == NO_FILE
    with pytest.raises(StorageError) as caught:
        tree.read("pipe.jpg")
    assert caught.value.code == "not-a-file"
    assert time.monotonic() - began < 5


def test_staging_keeps_the_mode_and_a_full_disk_leaves_nothing(
    tree: LocalStore, monkeypatch: pytest.MonkeyPatch
) -> None:
    os.chmod(tree.root / "a/one.jpg", 0o640)
    name = tree.spare_name("a/one.jpg")
    tree.stage(name, b"x" * 10, "a/one.jpg")
    assert (tree.root / name).stat().st_mode & 0o777 == 0o640

    def full(_: int) -> None:
        raise OSError(errno.ENOSPC, "No space left on device")

    monkeypatch.setattr(module.os, "fsync", full)
    before = sorted(os.listdir(tree.root / "a"))
    with pytest.raises(StorageError) as caught:
        tree.stage(tree.spare_name("a/one.jpg"), b"y" * 10, "a/one.jpg")
    assert caught.value.code == "disk-full"
    assert "free some space" in str(caught.value)
    assert sorted(os.listdir(tree.root / "a")) == before


def test_a_writer_is_noticed_also_by_mapped_memory(tree: LocalStore) -> None:
    import mmap

    name = tree.spare_name("a/one.jpg")
    assert tree.withdraw("a/one.jpg", name)
    if tree.writers(name) is Writers.UNKNOWN:
        pytest.skip("this file system grants no leases")
    assert tree.writers(name) is Writers.NONE
    with (tree.root / name).open("r+b") as file:
        assert tree.writers(name) is Writers.SOME
        mapped = mmap.mmap(file.fileno(), 3)
    assert tree.writers(name) is Writers.SOME
    mapped.close()
    assert tree.writers(name) is Writers.NONE
    assert LocalStore(tree.root, leases=False).writers(name) is Writers.UNKNOWN


def test_a_folder_renamed_during_a_visit_stays_the_one_that_is_visited(
    tree: LocalStore, tmp_path: Path
) -> None:
    tree.write_identity("identity")
    with tree.visit():
        tree.root.rename(tmp_path / "elsewhere")
        (tmp_path / "root/a").mkdir(parents=True)
        (tmp_path / "root/a/one.jpg").write_bytes(b"another's")
        assert tree.read("a/one.jpg") == b"one"
        name = tree.spare_name("a/one.jpg")
        tree.stage(name, b"new")
        tree.swap("a/one.jpg", name)
    assert (tmp_path / "elsewhere/a/one.jpg").read_bytes() == b"new"
    assert (tmp_path / "root/a/one.jpg").read_bytes() == b"another's"
    with pytest.raises(NotThere):
        tree.read("a/one.jpg")


@pytest.mark.parametrize("damage", ["empty", "foreign", "file", "absent", "locked"])
def test_a_folder_without_its_identity_file_is_not_entered(tree: LocalStore, damage: str) -> None:
    tree.write_identity("ours")
    identity = tree.root / IDENTITY_NAME
    if damage == "empty":
        identity.unlink()
    elif damage == "foreign":
        identity.write_text("theirs\n")
    elif damage == "locked":
        identity.unlink()
        identity.symlink_to("/etc/hostname")
    else:
        tree.root.rename(tree.root.with_name("gone"))
        if damage == "file":
            tree.root.write_bytes(b"")
    for operation in (
        lambda: tree.read("a/one.jpg"),
        lambda: tree.sha256("a/one.jpg"),
        lambda: tree.list(),
        lambda: tree.taken("a/one.jpg"),
        lambda: tree.stage(tree.spare_name("a/x"), b"x"),
        lambda: list(tree.strays()),
        lambda: tree.make_folder("b"),
    ):
        with pytest.raises(NotThere):
            operation()


def test_the_identity_file_is_written_once_and_never_over_anothers(tree: LocalStore) -> None:
    tree.write_identity("ours")
    tree.write_identity("ours")
    assert tree.read_identity() == "ours"
    assert "Leave it in place" in (tree.root / IDENTITY_NAME).read_text()
    with pytest.raises(StorageError) as caught:
        LocalStore(tree.root).write_identity("theirs")
    assert caught.value.code == "other-identity"
    assert sorted(os.listdir(tree.root)) == [IDENTITY_NAME, "a"]
    tree.remove_identity()
    assert os.listdir(tree.root) == ["a"]


@pytest.mark.parametrize("year", [2446, 9999, 1902])
def test_a_time_that_no_record_holds_is_bounded(tree: LocalStore, year: int) -> None:
    """File systems know years that a record of 64 bits, and a date in a header, do not."""
    seconds = (year - 1970) * 31_556_952
    os.utime(tree.root / "a/one.jpg", (seconds, seconds))
    (listing,) = [listing for folder, listing in tree.walk() if folder == "a"]
    (entry,) = [entry for entry in listing.files if entry.path == "a/one.jpg"]
    facts = tree.facts("a/one.jpg")
    assert entry.mtime_ns == facts.mtime_ns
    assert -(2**63) < facts.mtime_ns < 2**63
    tree.set_mtime("a/two.jpg", facts.mtime_ns)
    assert tree.facts("a/two.jpg").mtime_ns == facts.mtime_ns


def test_other_bytes_of_the_same_size_and_time_are_told_apart(tree: LocalStore) -> None:
    place = tree.root / "a/one.jpg"
    before = tree.facts("a/one.jpg")
    place.write_bytes(b"new")
    os.utime(place, ns=(before.mtime_ns, before.mtime_ns))
    after = tree.facts("a/one.jpg")
    assert (after.size, after.mtime_ns) == (before.size, before.mtime_ns)
    assert after.identity != before.identity
