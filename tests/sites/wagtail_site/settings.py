"""A small site of the trust, as a developer would begin one; where things are comes from the environment."""

from __future__ import annotations

import json
import os
from pathlib import Path

PLACE = Path(os.environ["SITE_PLACE"])
PLUMCRATE = json.loads(os.environ.get("SITE_PLUMCRATE", "{}"))

SECRET_KEY = "only for tests"
DEBUG = False
ALLOWED_HOSTS = ["*"]
ROOT_URLCONF = "urls"
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
USE_TZ = True
INSTALLED_APPS = [
    "home",
    *(["plumcrate_django", "plumcrate_wagtail"] if PLUMCRATE else []),
    "wagtail.users",
    "wagtail.snippets",
    "wagtail.documents",
    "wagtail.images",
    "wagtail.search",
    "wagtail.admin",
    "wagtail",
    "modelcluster",
    "taggit",
    "django.contrib.admin",
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django.contrib.messages",
    "django.contrib.staticfiles",
]
MIDDLEWARE = [
    "django.middleware.gzip.GZipMiddleware",
    *(["plumcrate_django.middleware.PagesMiddleware"] if PLUMCRATE else []),
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "django.contrib.messages.middleware.MessageMiddleware",
]
TEMPLATES = [
    {
        "BACKEND": "django.template.backends.django.DjangoTemplates",
        "APP_DIRS": True,
        "OPTIONS": {
            "context_processors": [
                "django.template.context_processors.request",
                "django.contrib.auth.context_processors.auth",
                "django.contrib.messages.context_processors.messages",
            ]
        },
    }
]
DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.sqlite3",
        "NAME": PLACE / "site.sqlite3",
        "OPTIONS": {
            "timeout": 20,
            "transaction_mode": "IMMEDIATE",
            "init_command": "PRAGMA journal_mode=wal",
        },
    }
}
CACHES = {
    "default": {"BACKEND": "django.core.cache.backends.filebased.FileBasedCache", "LOCATION": PLACE / "cache"}
}
STATIC_URL = "/static/"
STATIC_ROOT = PLACE / "static"
MEDIA_URL = "/media/"
MEDIA_ROOT = PLACE / "media"
STORAGES = {
    "default": {
        "BACKEND": "plumcrate_django.storage.LibraryStorage"
        if PLUMCRATE
        else "django.core.files.storage.FileSystemStorage"
    },
    "staticfiles": {"BACKEND": "django.contrib.staticfiles.storage.StaticFilesStorage"},
}
# The service's user and the site's write the same folder.
FILE_UPLOAD_PERMISSIONS = 0o664
FILE_UPLOAD_DIRECTORY_PERMISSIONS = 0o2775
WAGTAIL_SITE_NAME = "Gannet Ledge Light Trust"
WAGTAILADMIN_BASE_URL = "http://localhost"
LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "handlers": {"file": {"class": "logging.FileHandler", "filename": PLACE / "site.log"}},
    "root": {"handlers": ["file"], "level": "INFO"},
}
