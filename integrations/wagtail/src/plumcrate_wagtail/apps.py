"""The app, as ``INSTALLED_APPS`` names it; it stands after ``plumcrate_django``."""

from __future__ import annotations

from django.apps import AppConfig


class PlumCrateWagtailConfig(AppConfig):
    name = "plumcrate_wagtail"
    label = "plumcrate_wagtail"
    verbose_name = "Plum Crate for Wagtail"

    def ready(self) -> None:
        from . import receivers, renditions  # noqa: F401 - they register themselves
