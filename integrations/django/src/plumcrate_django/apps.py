"""The app, as ``INSTALLED_APPS`` names it."""

from __future__ import annotations

from django.apps import AppConfig


class PlumCrateConfig(AppConfig):
    name = "plumcrate_django"
    label = "plumcrate"
    verbose_name = "Plum Crate"

    def ready(self) -> None:
        from . import receivers  # noqa: F401 - it connects them
