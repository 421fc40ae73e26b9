"""A child that does what no child should, to see that it cannot: run as a program by the sandbox's tests."""

import ctypes
import json
import os
import signal
import socket
import subprocess
import time
from collections.abc import Callable
from pathlib import Path

from plumcrate.sandbox import child


def attempt(deed: Callable[[], object]) -> str:
    try:
        deed()
    except BaseException as error:
        return type(error).__name__
    return "done"


def crash(_: bytes) -> child.Answer:
    ctypes.string_at(0)
    return {}, []


def spin(_: bytes) -> child.Answer:
    while True:
        pass


def sleep(_: bytes) -> child.Answer:
    time.sleep(600)
    return {}, []


def hoard(_: bytes) -> child.Answer:
    return {"size": len(bytearray(8 << 30))}, []


def lie(_: bytes) -> child.Answer:
    os.write(1, b"")
    return {"facts": {}, "size": "many", "main": {"format": "exe"}, "copies": [], "conversions": []}, []


def well(data: bytes) -> child.Answer:
    return {"said": data.decode()}, [data]


def escape(data: bytes) -> child.Answer:
    """Tries every way out; ``data`` names a file that must not be read and a folder not to be written."""
    secret, folder, port = json.loads(data)
    deeds: dict[str, Callable[[], object]] = {
        "connect": lambda: socket.create_connection(("127.0.0.1", port), 2),
        "udp": lambda: socket.socket(socket.AF_INET, socket.SOCK_DGRAM).sendto(b"x", ("127.0.0.1", port)),
        "local socket": lambda: socket.socket(socket.AF_UNIX),
        "read": lambda: Path(secret).read_text(),
        "list": lambda: os.listdir(folder),
        "write": lambda: Path(folder, "x").write_text("x"),
        "delete": lambda: os.unlink(secret),
        "rename": lambda: os.rename(secret, secret + "x"),
        "program": lambda: subprocess.run(["/bin/true"], check=True),
        "fork": os.fork,
        "signal": lambda: os.kill(os.getppid(), signal.SIGTERM),
        "trace": lambda: _libc().ptrace(16, os.getppid(), 0, 0) and _fail(),
        "environment of the parent": lambda: Path(f"/proc/{os.getppid()}/environ").read_text(),
        "own environment": lambda: Path("/proc/self/environ").read_text(),
        "more memory": lambda: os.truncate(secret, 0),
    }
    found = {name: attempt(deed) for name, deed in deeds.items()}
    found["environment"] = json.dumps(sorted(os.environ))
    descriptors = 0
    for number in range(3, 64):
        try:
            os.fstat(number)
        except OSError:
            continue
        descriptors += 1
    found["descriptors"] = str(descriptors)
    return {"found": found}, []


def _libc() -> ctypes.CDLL:
    return ctypes.CDLL(None, use_errno=True)


def _fail() -> None:
    raise PermissionError


def page_paths(data: bytes, *_: object) -> child.Answer:
    """A page that takes for ever, crashes, or names nothing."""
    {b"spin": spin, b"crash": crash}.get(data, lambda _: None)(data)
    return {"paths": []}, []


def page(data: bytes, into: int, *_: object) -> child.Answer:
    """A page that is half written when it crashes."""
    os.write(into, b"half of it")
    return crash(data)


if __name__ == "__main__":
    child.FUNCTIONS |= {
        one.__name__: one for one in (crash, spin, sleep, hoard, lie, well, escape, page_paths, page)
    }
    child.main()
