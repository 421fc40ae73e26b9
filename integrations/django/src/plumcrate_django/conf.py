"""The site's settings: one dictionary, ``PLUMCRATE``, in Django's settings."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, fields
from functools import lru_cache
from typing import Any

from django.conf import settings
from django.core.exceptions import ImproperlyConfigured
from django.core.signals import setting_changed


@dataclass(frozen=True)
class SiteSettings:
    """``url``, ``key`` and ``library`` name the service, a key of it, and the library by its short name.

    ``folder`` is the library's folder within ``MEDIA_ROOT``, empty where it is that folder itself.
    ``hook_secret`` signs what the site tells the service, ``webhook_secret`` what the service tells the site.
    ``seconds`` is how long the site waits for the service at most. ``clear_caches`` names caches of the
    site that are cleared when pictures change.
    """

    url: str = ""
    key: str = ""
    library: str = ""
    folder: str = ""
    hook_secret: str = ""
    webhook_secret: str = ""
    seconds: float = 2.0
    clear_caches: tuple[str, ...] = ()

    @property
    def prefix(self) -> str:
        """What names of files begin with that are in the library."""
        return f"{self.folder.strip('/')}/" if self.folder.strip("/") else ""

    def path_of(self, name: str) -> str | None:
        """A file's path in the library by its name in the site's storage; None for one outside."""
        plain = name.replace("\\", "/").lstrip("/")
        if not plain.startswith(self.prefix):
            return None
        return plain[len(self.prefix) :] or None

    def name_of(self, path: str) -> str:
        """A file's name in the site's storage by its path in the library."""
        return self.prefix + path


@lru_cache(maxsize=1)
def site() -> SiteSettings:
    """The settings in force. Raises ImproperlyConfigured."""
    given: Mapping[str, Any] = getattr(settings, "PLUMCRATE", {})
    known = {field.name for field in fields(SiteSettings)}
    unknown = sorted(given.keys() - known)
    if unknown:
        raise ImproperlyConfigured(
            f"PLUMCRATE has no setting {unknown[0]!r}; it has {', '.join(sorted(known))}"
        )
    missing = [name for name in ("url", "key", "library") if not given.get(name)]
    if missing:
        raise ImproperlyConfigured(f"PLUMCRATE needs {' and '.join(missing)}")
    return SiteSettings(**{**given, "clear_caches": tuple(given.get("clear_caches", ()))})


def _forget(*, setting: str, **_: Any) -> None:
    if setting == "PLUMCRATE":
        site.cache_clear()


setting_changed.connect(_forget)
