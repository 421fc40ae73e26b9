"""What happens in the site is told: a saved or deleted row with a file in the library."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial
from typing import Any

from django.core.cache import caches
from django.db import models, transaction
from django.db.models.signals import post_delete, post_save
from django.dispatch import Signal, receiver

from .conf import site
from .service import note_changes
from .telling import made_of, teller

#: Sent when the service says that files changed; ``names`` are those in the site's storage.
files_changed = Signal()
#: Sent when somebody described pictures in the service: ``language``, and ``texts`` by name in the site's
#: storage, each with ``alternative``, ``title``, ``caption``, ``credit`` and ``decorative``.
descriptions_changed = Signal()


def _names(instance: models.Model) -> Iterator[str]:
    for field in instance._meta.concrete_fields:
        if isinstance(field, models.FileField):
            file = getattr(instance, field.attname)
            if file:
                yield file.name


@receiver([post_save, post_delete], dispatch_uid="plumcrate-files")
def _told(sender: type[models.Model], instance: models.Model, **kwargs: Any) -> None:
    if not site().hook_secret:
        return
    for name in _names(instance):
        path = site().path_of(name)
        if path is not None:
            said = made_of(instance, name)
            transaction.on_commit(partial(teller().tell, path, said), robust=True)


@receiver(files_changed, dispatch_uid="plumcrate-caches")
def _clear(sender: Any, names: list[str], **kwargs: Any) -> None:
    _forget()


@receiver(descriptions_changed, dispatch_uid="plumcrate-described")
def _clear_described(sender: Any, **kwargs: Any) -> None:
    _forget()


def _forget() -> None:
    note_changes()
    for alias in site().clear_caches:
        caches[alias].clear()
