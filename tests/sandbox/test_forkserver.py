"""The server that children come from: it may die, be shared and be released, and compiles what is missing
once."""

import os
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
from conftest import wait_for

from plumcrate.imaging import warm
from plumcrate.sandbox import child, kernels
from plumcrate.sandbox.children import Sandbox, SandboxError
from plumcrate.sandbox.forkserver import ForkServer

sys.path.append(str(Path(__file__).parent))  # where the program "walls" is found


@pytest.fixture
def server() -> Iterator[ForkServer]:
    made = ForkServer("walls")
    yield made
    made.close()


def box(server: ForkServer) -> Sandbox:
    return Sandbox(1, memory_mb=2000, seconds_per_megapixel=1, server=server)


def test_children_of_two_pools_are_of_one_server(server: ForkServer) -> None:
    pools = box(server), box(server)
    for pool in pools:
        pool._call(20, b"well", "well")
    parents = set()
    for pool in pools:
        (one,) = pool._alive
        stat = Path(f"/proc/{one.process.pid}/stat").read_text()
        parents.add(int(stat.rpartition(")")[2].split()[1]))
        assert os.getsid(one.process.pid) == one.process.pid, "a session of its own"
    assert len(parents) == 1
    for pool in pools:
        pool.close()


def test_a_server_that_dies_takes_nobody_with_it_and_another_begins(server: ForkServer) -> None:
    pool, second = box(server), box(server)
    pool._call(20, b"well", "well")
    assert server._server is not None
    former = server._server
    former.kill()
    former.wait()
    assert pool._call(20, b"well", "well")[1] == [b"well"], "the child lives on"
    assert second._call(20, b"well", "well")[1] == [b"well"], "from a new server"
    assert server._server is not former
    pool.close()
    second.close()


def test_a_child_is_told_dead_when_its_server_died_first(server: ForkServer) -> None:
    pool = box(server)
    pool._call(20, b"well", "well")
    assert server._server is not None
    server._server.kill()
    with pytest.raises(SandboxError) as caught:
        pool._call(20, b"x", "crash")
    assert caught.value.code == "child-died"
    pool.close()


DIES = """
import sys
from plumcrate.sandbox.forkserver import ForkServer
from plumcrate.sandbox.children import Sandbox
server = ForkServer("walls")
pool = Sandbox(1, memory_mb=2000, seconds_per_megapixel=1, server=server)
pool._call(20, b"well", "well")
(one,) = pool._alive
print(one.process.pid, server._server.pid, flush=True)
pool._call(500, b"x", "spin")
"""


def test_who_is_killed_leaves_neither_server_nor_child(tmp_path: Path) -> None:
    environment = os.environ | {"PYTHONPATH": str(Path(__file__).parent)}
    parent = subprocess.Popen([sys.executable, "-c", DIES], stdout=subprocess.PIPE, env=environment)
    assert parent.stdout is not None
    pids = [int(word) for word in parent.stdout.readline().split()]
    parent.send_signal(signal.SIGKILL)
    parent.wait()
    parent.stdout.close()
    wait_for(lambda: not any(_runs(pid) for pid in pids), 60)


def _runs(pid: int) -> bool:
    try:
        return Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[0] != "Z"
    except OSError:
        return False


def test_kernels_are_compiled_once_and_by_one_process(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("NUMBA_CACHE_DIR", str(tmp_path / "kernels"))
    said = tmp_path / "compiled"
    said.touch()

    def compiling() -> Iterator[None]:
        time.sleep(0.2)
        with said.open("a") as file:
            file.write(f"{os.getpid()}\n")
        yield

    monkeypatch.setattr(warm, "warm", compiling)
    assert not kernels.compiled()
    pids = [os.fork() for _ in range(2)]
    if 0 in pids:
        kernels.compile_all()
        os._exit(0)
    for pid in pids:
        os.waitpid(pid, 0)
    assert kernels.compiled()
    assert len(said.read_text().split()) == 1
    kernels.compile_all()
    assert len(said.read_text().split()) == 1


def test_a_server_loads_kernels_once_they_are_compiled(monkeypatch: pytest.MonkeyPatch) -> None:
    steps: list[str] = []
    monkeypatch.setattr(warm, "warm", lambda: iter([steps.append("loaded")]))
    monkeypatch.setattr(kernels, "compile_all", lambda: time.sleep(0.3))
    monkeypatch.setattr(kernels, "compiled", lambda: False)
    loading = child._load_kernels()
    assert next(loading) is None
    assert steps == [], "somebody compiles them still"
    deadline = time.monotonic() + 60
    for _ in loading:
        time.sleep(0.05)
        assert time.monotonic() < deadline
    assert steps == ["loaded"]
