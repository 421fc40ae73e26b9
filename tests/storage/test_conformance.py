"""What every store must do, whatever files live in."""

import hashlib
from collections.abc import Callable
from pathlib import Path

import pytest

from plumcrate.storage.errors import NotThere, StorageError
from plumcrate.storage.local import LocalStore
from plumcrate.storage.memory import MemoryStore, Node
from plumcrate.storage.names import STAGED_PREFIX
from plumcrate.storage.store import NO_FILE, Store, Writers

FILES = {"a/one.jpg": b"one", "a/two.jpg": b"two!", "top.png": b"top"}


def on_disk(tmp_path: Path, *, exchanges: bool) -> Store:
    for path, data in FILES.items():
        (tmp_path / path).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / path).write_bytes(data)
    (tmp_path / "pipe").symlink_to("/etc/hostname")
    return LocalStore(tmp_path, exchanges=exchanges)


def in_memory(*, exchanges: bool) -> Store:
    store = MemoryStore()
    store.exchanges = exchanges
    store.nodes = {path: Node(data) for path, data in FILES.items()} | {"pipe": Node(kind="link")}
    return store


@pytest.fixture(params=["disk", "disk without exchange", "memory", "memory without exchange"])
def store(request: pytest.FixtureRequest, tmp_path: Path) -> Store:
    exchanges = "without" not in request.param
    return (
        on_disk(tmp_path, exchanges=exchanges) if "disk" in request.param else in_memory(exchanges=exchanges)
    )


def code_of(call: Callable[[], object]) -> str:
    with pytest.raises(StorageError) as caught:
        call()
    return caught.value.code


def hidden(store: Store, data: bytes, path: str = "a/x", like: str | None = None) -> str:
    name = store.spare_name(path)
    store.stage(name, data, like)
    return name


def test_listing(store: Store) -> None:
    hidden(store, b"ours", "top.png")
    top = store.list()
    assert ([entry.path for entry in top.files], top.folders) == (["top.png"], ["a"])
    assert [entry.path for entry in top.skipped] == ["pipe"]
    assert [(entry.path, entry.size) for entry in store.list("a").files] == [
        ("a/one.jpg", 3),
        ("a/two.jpg", 4),
    ]
    assert [folder for folder, _ in store.walk()] == ["", "a"]


def test_facts_and_hashes(store: Store) -> None:
    facts = store.facts("a/two.jpg")
    assert (facts.size, facts.links) == (4, 1)
    store.set_mtime("a/two.jpg", 10**18)
    assert store.facts("a/two.jpg").mtime_ns == 10**18
    assert store.sha256("a/two.jpg") == hashlib.sha256(b"two!").digest()
    assert store.sha256("a/none.jpg") is None
    assert store.sha256("none/at/all.jpg") is None
    assert store.sha256("pipe") == store.sha256("a") == NO_FILE
    assert code_of(lambda: store.facts("a/none.jpg")) == "gone"
    assert code_of(lambda: store.facts("a")) == "not-a-file"
    assert code_of(lambda: store.read("pipe")) == "symbolic-link"
    assert store.read("a/two.jpg", 2) == b"tw"
    assert [store.taken(path) for path in ("a", "top.png", "pipe", "b", "b/c")] == [True] * 3 + [False] * 2
    assert store.folder_id("a/x") == store.folder_id("a/y") != store.folder_id("x")
    assert store.folder_id("nowhere/x") is None


def test_swapping_keeps_both(store: Store) -> None:
    name = hidden(store, b"new", like="a/one.jpg")
    store.swap("a/one.jpg", name)
    assert (store.read("a/one.jpg"), store.read(name)) == (b"new", b"one")
    assert store.half_swapped("a/one.jpg", name) is None
    assert list(store.strays()) == [name]
    store.discard(name)
    store.discard(name)
    assert list(store.strays()) == []
    assert code_of(lambda: store.swap("a/none.jpg", hidden(store, b"x"))) == "gone"


def test_creating_and_withdrawing_take_no_name_that_is_taken(store: Store) -> None:
    name = hidden(store, b"new")
    assert not store.create(name, "a/one.jpg")
    assert store.read("a/one.jpg") == b"one"
    assert store.create(name, "a/new.jpg")
    assert (store.read("a/new.jpg"), list(store.strays())) == (b"new", [])
    aside = store.spare_name("a/new.jpg")
    assert store.withdraw("a/new.jpg", aside)
    assert not store.taken("a/new.jpg")
    assert store.writers(aside) in (Writers.NONE, Writers.UNKNOWN)
    assert not store.withdraw("a/one.jpg", aside)
    assert store.read("a/one.jpg") == b"one"
    assert code_of(lambda: store.withdraw("a/none.jpg", store.spare_name("a/x"))) == "gone"


def test_only_hidden_names_are_staged_or_deleted(store: Store) -> None:
    for call in (
        lambda: store.discard("a/one.jpg"),
        lambda: store.stage("a/three.jpg", b"x"),
        lambda: store.swap("a/one.jpg", "a/two.jpg"),
        lambda: store.create("a/one.jpg", "b.jpg"),
        lambda: store.withdraw("a/one.jpg", "b.jpg"),
    ):
        assert code_of(call) == "bad-name"
    assert store.read("a/one.jpg") == b"one"
    assert store.spare_name("a/x").startswith(f"a/{STAGED_PREFIX}")


@pytest.mark.parametrize("path", ["/etc/passwd", "../x", "a/../x", "a//x", "", "a/\0", "a/\ud800"])
def test_no_name_that_was_not_checked_reaches_it(store: Store, path: str) -> None:
    for call in (lambda: store.read(path), lambda: store.facts(path), lambda: store.open(path)):
        assert code_of(call) == "bad-name"


def test_another_store_in_its_place_is_not_entered(store: Store) -> None:
    store.write_identity("ours")
    assert store.read("top.png") == b"top"
    with store.visit():
        assert store.read_identity() == "ours"
    store.identity = "another's"
    for call in (lambda: store.read("top.png"), lambda: store.list(), lambda: store.visit().__enter__()):
        with pytest.raises(NotThere):
            call()
    with pytest.raises(StorageError, match="another"):
        store.write_identity("another's")
    store.identity = "ours"
    store.remove_identity()
    assert (store.read_identity(), store.read("top.png")) == (None, b"top")


def test_a_store_that_lost_its_identity_file_is_entered_once_it_is_given_it_again(store: Store) -> None:
    store.write_identity("ours")
    store.remove_identity()
    store.identity = "ours"
    with pytest.raises(NotThere):
        store.read("top.png")
    store.write_identity("ours")
    assert store.read("top.png") == b"top"


def test_a_folder_is_looked_into_by_names(store: Store) -> None:
    with store.look_into("a") as folder:
        assert folder.facts("two.jpg").size == 4
        with folder.open("two.jpg") as file:
            assert file.read() == b"two!"
        assert code_of(lambda: folder.facts("none.jpg")) == "gone"
    with store.look_into("") as folder:
        assert folder.facts("top.png").size == 3
        assert code_of(lambda: folder.facts("pipe")) == "symbolic-link"


def test_another_folder_is_never_looked_into(store: Store, tmp_path: Path) -> None:
    with store.look_into("a"):
        pass
    store.write_identity("the identity file")
    store.identity = "another identity file"
    with pytest.raises(NotThere), store.look_into("a"):
        pass
