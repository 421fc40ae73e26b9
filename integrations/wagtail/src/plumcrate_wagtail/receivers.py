"""Wagtail's records follow the files and what pictures say, and the library follows Wagtail's focal points
and descriptions."""

from __future__ import annotations

from functools import partial
from typing import Any

from django.conf import settings
from django.db import transaction
from django.db.models.signals import post_save
from django.dispatch import receiver
from wagtail.images import get_image_model

from plumcrate.contract.descriptions import Texts
from plumcrate.contract.sizes import Focus
from plumcrate_django.conf import site
from plumcrate_django.receivers import descriptions_changed, files_changed
from plumcrate_django.service import service
from plumcrate_django.templatetags.plumcrate import said_in

#: So long is Wagtail's field.
_LONGEST = 255


@receiver(files_changed, dispatch_uid="plumcrate-wagtail")
def _follow(sender: Any, names: list[str], **kwargs: Any) -> None:
    """``file_size`` is what stands there. ``file_hash`` stays: by it Wagtail finds the same upload again."""
    images = get_image_model().objects.filter(file__in=names)
    files = service().files(image.file.name for image in images)
    for image in images:
        file = files.get(image.file.name)
        if file is None:
            continue
        values: dict[str, Any] = {}
        if image.file_size != file.size_now:
            values["file_size"] = file.size_now
        if file.focus is not None and image.focal_point_x is None:
            values |= {
                "focal_point_x": round(file.focus.x * image.width),
                "focal_point_y": round(file.focus.y * image.height),
                "focal_point_width": 0,
                "focal_point_height": 0,
            }
        if values:
            # No signal: nothing of this is news to anybody but Wagtail.
            get_image_model().objects.filter(pk=image.pk).update(**values)


@receiver(descriptions_changed, dispatch_uid="plumcrate-wagtail-described")
def _describe(sender: Any, language: str, texts: dict[str, Any], **kwargs: Any) -> None:
    """What somebody wrote in the library is what Wagtail says: in the site's own language, in which its
    ``description`` is."""
    if not _is_own(language):
        return
    model = get_image_model()
    if not hasattr(model, "description"):  # a model of its own, or a Wagtail before 6.3
        return
    for image in model.objects.filter(file__in=list(texts)):
        text = texts[image.file.name]["alternative"][:_LONGEST]
        if image.description != text:
            # No signal: the library knows it already.
            model.objects.filter(pk=image.pk).update(description=text)


def _is_own(language: str) -> bool:
    return language.lower().partition("-")[0] == settings.LANGUAGE_CODE.lower().partition("-")[0]


@receiver(post_save, dispatch_uid="plumcrate-wagtail-describe")
def _described(sender: type[Any], instance: Any, **kwargs: Any) -> None:
    if isinstance(instance, get_image_model()) and getattr(instance, "description", ""):
        transaction.on_commit(partial(tell_description, instance), robust=True)


def tell_description(image: Any) -> None:
    """What an editor wrote in Wagtail is what the picture says in the library; other texts of it stay."""
    name, path = image.file.name, site().path_of(image.file.name)
    file = service().files([name]).get(name) if path is not None else None
    if file is None or said_in(file.alternatives, settings.LANGUAGE_CODE) == image.description:
        return
    ours = service().asked(lambda: service().client.descriptions.of_picture(file.picture_id)) or []
    for one in ours:
        if _is_own(one.language):
            texts = Texts(
                alternative=image.description, title=one.title, caption=one.caption, credit=one.credit
            )
            service().asked(
                lambda one=one, texts=texts: service().client.descriptions.save(
                    file.picture_id, one.language, texts, based_on=one.version
                )
            )
            return


@receiver(post_save, dispatch_uid="plumcrate-wagtail-focus")
def _focus(sender: type[Any], instance: Any, **kwargs: Any) -> None:
    if isinstance(instance, get_image_model()) and instance.has_focal_point():
        transaction.on_commit(partial(tell_focus, instance), robust=True)


def tell_focus(image: Any) -> None:
    """The library cuts its sizes around the point that an editor chose."""
    name, path = image.file.name, site().path_of(image.file.name)
    file = service().files([name]).get(name) if path is not None else None
    if file is None or not (image.width and image.height):
        return
    focus = Focus(
        x=min(1.0, max(0.0, image.focal_point_x / image.width)),
        y=min(1.0, max(0.0, image.focal_point_y / image.height)),
    )
    if focus != file.focus:
        service().asked(lambda: service().client.pictures.set_focus(file.picture_id, focus))
