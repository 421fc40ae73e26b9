"""Django, set up for the tests of the app."""

import django
from django.conf import settings

PLUMCRATE = {"url": "http://crate:8020", "key": "k", "library": "ledge", "folder": "pictures"}

settings.configure(
    PLUMCRATE=PLUMCRATE,
    SECRET_KEY="only for tests",
    INSTALLED_APPS=["plumcrate_django"],
    DATABASES={"default": {"ENGINE": "django.db.backends.sqlite3", "NAME": ":memory:"}},
    ALLOWED_HOSTS=["*"],
    ROOT_URLCONF="plumcrate_django.urls",
    DEFAULT_AUTO_FIELD="django.db.models.BigAutoField",
    TEMPLATES=[{"BACKEND": "django.template.backends.django.DjangoTemplates", "APP_DIRS": True}],
)

django.setup()
