"""Where the service is and with what key.

The environment first (``PLUMCRATE_URL`` and ``PLUMCRATE_KEY``, both), then the nearest ``.plumcrate.toml``
in the working folder and its parents, then ``~/.config/plumcrate.toml``. The file holds two lines, ``url``
and ``key``. A key goes only to the address that it came with: one from the environment is never sent to an
address that was found in a folder, and a file that somebody else could have left there is not read.
"""

from __future__ import annotations

import os
import stat
import tomllib
from dataclasses import dataclass
from pathlib import Path


class ConfigError(Exception):
    """The address or the key is not known; the message says how to give them."""


@dataclass(frozen=True, slots=True)
class Config:
    url: str
    key: str


def load() -> Config:
    """Raises :class:`ConfigError`."""
    url, key = os.environ.get("PLUMCRATE_URL", ""), os.environ.get("PLUMCRATE_KEY", "")
    if url and key:
        return Config(url, key)
    if url or key:
        given, missing = ("PLUMCRATE_URL", "PLUMCRATE_KEY") if url else ("PLUMCRATE_KEY", "PLUMCRATE_URL")
        raise ConfigError(
            f"{given} is set but {missing} is not: set both, or neither and write url and key into "
            ".plumcrate.toml; a key goes only to the address it came with"
        )
    here = Path.cwd()
    places = [folder / ".plumcrate.toml" for folder in (here, *here.parents)]
    places.append(Path.home() / ".config" / "plumcrate.toml")
    for place in places:
        if place.is_file():
            return _read(place)
    raise ConfigError(
        "the service's address and a key are needed: set PLUMCRATE_URL and PLUMCRATE_KEY, "
        "or write url and key into .plumcrate.toml"
    )


def _read(place: Path) -> Config:
    try:
        facts = place.stat()
        if facts.st_uid not in (os.geteuid(), 0) or facts.st_mode & stat.S_IWOTH:
            raise ConfigError(f"{place} is not read: it belongs to somebody else, or everybody may write it")
        values = tomllib.loads(place.read_text())
    except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError) as error:
        raise ConfigError(f"{place} cannot be read: {error}") from None
    url, key = (values.get(name) for name in ("url", "key"))
    if not (isinstance(url, str) and isinstance(key, str) and url and key):
        raise ConfigError(f"{place} must hold both url and key")
    return Config(url, key)
