"""The file operations: nothing leaves the root, nothing is half written, nothing of others is overwritten."""

import errno
import os
from pathlib import Path

import pytest

from plumcrate.storage import folder as module
from plumcrate.storage.folder import Entry, Folder, Skipped, StorageError


@pytest.fixture
def tree(tmp_path: Path) -> Folder:
    root = tmp_path / "root"
    (root / "a").mkdir(parents=True)
    (root / "a/one.jpg").write_bytes(b"one")
    (root / "a/two.jpg").write_bytes(b"two")
    return Folder(root)


def test_walk_lists_files_and_names_what_it_passes_over(tree: Folder, tmp_path: Path) -> None:
    (tmp_path / "outside.jpg").write_bytes(b"secret")
    (tree.root / "link.jpg").symlink_to(tmp_path / "outside.jpg")
    (tree.root / "away").symlink_to(tmp_path)
    (tree.root / ".hidden.jpg").write_bytes(b"")
    (tree.root / "näme with ünïcode.jpg").write_bytes(b"x")
    Path(os.fsdecode(os.fsencode(tree.root) + b"/caf\xe9.jpg")).write_bytes(b"latin")
    found = list(tree.walk())
    assert {entry.path for entry in found if isinstance(entry, Entry)} == {
        "a/one.jpg", "a/two.jpg", "näme with ünïcode.jpg",
    }  # fmt: skip
    skipped = {entry.path: entry.reason for entry in found if isinstance(entry, Skipped)}
    assert skipped["link.jpg"] == skipped["away"] == "a symbolic link"
    assert "not UTF-8" in skipped["caf\ufffd.jpg"]


@pytest.mark.parametrize("path", ["../outside.jpg", "a/../../outside.jpg", "away/outside.jpg"])
def test_nothing_leads_out(tree: Folder, tmp_path: Path, path: str) -> None:
    (tmp_path / "outside.jpg").write_bytes(b"secret")
    (tree.root / "away").symlink_to(tmp_path)
    for operation in (tree.read, tree.remove, tree.stat):
        with pytest.raises(StorageError) as caught:
            operation(path)
        assert caught.value.code == "outside"
    assert (tmp_path / "outside.jpg").read_bytes() == b"secret"


def test_a_link_is_not_read_through(tree: Folder, tmp_path: Path) -> None:
    (tmp_path / "outside.jpg").write_bytes(b"secret")
    (tree.root / "link.jpg").symlink_to(tmp_path / "outside.jpg")
    with pytest.raises(StorageError) as caught:
        tree.read("link.jpg")
    assert caught.value.code == "symbolic-link"


@pytest.mark.parametrize("can_exchange", [True, False])
def test_exchange_keeps_both(tree: Folder, monkeypatch: pytest.MonkeyPatch, can_exchange: bool) -> None:
    if not can_exchange:

        def refuse(*_: object) -> None:
            raise OSError(errno.EINVAL, "no exchange on this file system")

        monkeypatch.setattr(module, "_renameat2", refuse)
    tree.exchange("a/one.jpg", "a/two.jpg")
    assert (tree.read("a/one.jpg"), tree.read("a/two.jpg")) == (b"two", b"one")
    assert len(os.listdir(tree.root / "a")) == 2
    name = tree.staged_name("a/new.jpg")
    tree.stage(name, b"new", "a/one.jpg")
    assert not tree.publish(name, "a/one.jpg"), "a taken name is not overwritten"
    assert tree.read("a/one.jpg") == b"two"
    assert tree.publish(name, "a/new.jpg")
    assert tree.read("a/new.jpg") == b"new"


def test_staging_keeps_the_mode_and_a_full_disk_leaves_nothing(
    tree: Folder, monkeypatch: pytest.MonkeyPatch
) -> None:
    os.chmod(tree.root / "a/one.jpg", 0o640)
    name = tree.staged_name("a/one.jpg")
    tree.stage(name, b"x" * 10, "a/one.jpg")
    assert tree.stat(name).st_mode & 0o777 == 0o640

    def full(_: int) -> None:
        raise OSError(errno.ENOSPC, "No space left on device")

    monkeypatch.setattr(module.os, "fsync", full)
    before = sorted(os.listdir(tree.root / "a"))
    with pytest.raises(StorageError) as caught:
        tree.stage(tree.staged_name("a/one.jpg"), b"y" * 10, "a/one.jpg")
    assert caught.value.code == "disk-full"
    assert "free some space" in str(caught.value)
    assert sorted(os.listdir(tree.root / "a")) == before
