"""The site's addresses."""

from __future__ import annotations

from django.conf import settings
from django.urls import include, path
from wagtail import urls as wagtail_urls
from wagtail.admin import urls as admin_urls

urlpatterns = [
    path("admin/", include(admin_urls)),
    *([path("plumcrate/", include("plumcrate_django.urls"))] if settings.PLUMCRATE else []),
    path("", include(wagtail_urls)),
]
