"""The service itself."""

from __future__ import annotations

from pydantic import TypeAdapter

from plumcrate.contract.care import Machine
from plumcrate.contract.folders import FolderView
from plumcrate.contract.people import Health, Person, Setting
from plumcrate.contract.pictures import Format

from . import base
from .base import Call


def health() -> Call[Health]:
    return base.get("/health", Health)


def whoami() -> Call[Person | None]:
    """Whose the key is; a key that is not known is refused."""
    return Call("GET", "/session", TypeAdapter(Person | None))


def machine() -> Call[Machine]:
    """Whether everything is there that treating needs."""
    return base.get("/machine", Machine)


def settings() -> Call[list[Setting]]:
    """Those of the service in force, and where each comes from."""
    return base.get("/settings", list[Setting])


def formats() -> Call[list[Format]]:
    """The picture formats known to the service."""
    return base.get("/formats", list[Format])


def folders(path: str | None = None) -> Call[FolderView]:
    """What is in a folder of the service's machine; without a path: the folders that may be connected."""
    return base.get("/folders", FolderView, path=path)


def metrics() -> Call[bytes]:
    """Figures for a monitoring system, as OpenMetrics text."""
    return Call("GET", "/metrics", None)
