"""``path("plumcrate/", include("plumcrate_django.urls"))``."""

from __future__ import annotations

from django.urls import path

from .views import webhook

app_name = "plumcrate"
urlpatterns = [path("webhook/", webhook, name="webhook")]
