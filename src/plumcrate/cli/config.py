"""Where the service is and with what key.

The environment first (``PLUMCRATE_URL`` and ``PLUMCRATE_KEY``, both), then the nearest ``.plumcrate.toml``
in the working folder and its parents, then ``~/.config/plumcrate.toml``. The file holds two lines, ``url``
and ``key``; and the same of further services under ``[services.NAME]``, of which ``PLUMCRATE_SERVICE``
chooses one. A key goes only to the address that it came with: one from the environment is never sent to an
address that was found in a folder, and a file that somebody else could have left there is not read.
"""

from __future__ import annotations

import os
import stat
import tomllib
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any


class ConfigError(Exception):
    """The address or the key is not known; the message says how to give them."""


@dataclass(frozen=True, slots=True)
class Config:
    url: str
    key: str


def load() -> Config:
    """Raises :class:`ConfigError`."""
    if named := os.environ.get("PLUMCRATE_SERVICE", ""):
        return _named(named)
    url, key = os.environ.get("PLUMCRATE_URL", ""), os.environ.get("PLUMCRATE_KEY", "")
    if url and key:
        return Config(url, key)
    if url or key:
        given, missing = ("PLUMCRATE_URL", "PLUMCRATE_KEY") if url else ("PLUMCRATE_KEY", "PLUMCRATE_URL")
        raise ConfigError(
            f"{given} is set but {missing} is not: set both, or neither and write url and key into "
            ".plumcrate.toml; a key goes only to the address it came with"
        )
    for place in _places():
        return _config(_read(place), place)
    raise ConfigError(
        "the service's address and a key are needed: set PLUMCRATE_URL and PLUMCRATE_KEY, "
        "or write url and key into .plumcrate.toml"
    )


def _named(name: str) -> Config:
    """The service of that name in the nearest file that has it."""
    for place in _places():
        services = _read(place).get("services")
        if isinstance(services, dict) and isinstance(services.get(name), dict):
            return _config(services[name], place)
    raise ConfigError(f"no .plumcrate.toml has a service {name}: write url and key under [services.{name}]")


def _places() -> Iterator[Path]:
    """The files that there are, the nearest first."""
    here = Path.cwd()
    places = [folder / ".plumcrate.toml" for folder in (here, *here.parents)]
    places.append(Path.home() / ".config" / "plumcrate.toml")
    return (place for place in places if place.is_file())


def _read(place: Path) -> dict[str, Any]:
    try:
        facts = place.stat()
        if facts.st_uid not in (os.geteuid(), 0) or facts.st_mode & stat.S_IWOTH:
            raise ConfigError(f"{place} is not read: it belongs to somebody else, or everybody may write it")
        return tomllib.loads(place.read_text())
    except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError) as error:
        raise ConfigError(f"{place} cannot be read: {error}") from None


def _config(values: dict[str, Any], place: Path) -> Config:
    url, key = (values.get(name) for name in ("url", "key"))
    if not (isinstance(url, str) and isinstance(key, str) and url and key):
        raise ConfigError(f"{place} must hold both url and key")
    return Config(url, key)
