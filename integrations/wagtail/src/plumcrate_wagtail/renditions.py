"""Which file is a rendition of which, by Wagtail's own tables."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from wagtail.images import get_image_model
from wagtail.images.models import AbstractRendition

from plumcrate.contract.mapping import MappedRendition
from plumcrate_django.conf import site
from plumcrate_django.mapping import register_mapping
from plumcrate_django.telling import register_made_of


@register_made_of
def made_of(instance: Any, name: str) -> MappedRendition | None:
    """Of a rendition that was just saved."""
    if not isinstance(instance, AbstractRendition):
        return None
    return _mapped(name, instance.image.file.name, instance.filter_spec)


@register_mapping
def all_renditions() -> Iterator[MappedRendition]:
    """Of every rendition there is."""
    rows = get_image_model().get_rendition_model().objects.values_list("file", "image__file", "filter_spec")
    for name, original, spec in rows.iterator():
        said = _mapped(name, original, spec)
        if said is not None:
            yield said


def _mapped(name: str, original: str, spec: str) -> MappedRendition | None:
    path, whose = site().path_of(name), site().path_of(original)
    if path is None or whose is None:
        return None
    return MappedRendition(path=path, original=whose, made_by=spec[:500])
