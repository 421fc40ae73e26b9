"""Where the service is and with what key: environment first, then the nearest ``.plumcrate.toml``.

The file is looked for in the working folder and its parents, then as ``~/.config/plumcrate.toml``.
It holds two lines, ``url`` and ``key``.
"""

from __future__ import annotations

import os
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
    values = {"url": os.environ.get("PLUMCRATE_URL", ""), "key": os.environ.get("PLUMCRATE_KEY", "")}
    if not all(values.values()):
        here = Path.cwd()
        places = [folder / ".plumcrate.toml" for folder in (here, *here.parents)]
        places.append(Path.home() / ".config" / "plumcrate.toml")
        for place in places:
            if place.is_file():
                try:
                    found = tomllib.loads(place.read_text())
                except (OSError, tomllib.TOMLDecodeError) as error:
                    raise ConfigError(f"{place} cannot be read: {error}") from None
                values = {name: value or str(found.get(name, "")) for name, value in values.items()}
                break
    if not all(values.values()):
        raise ConfigError(
            "the service's address and a key are needed: set PLUMCRATE_URL and PLUMCRATE_KEY, "
            "or write url and key into .plumcrate.toml"
        )
    return Config(**values)
