"""``manage.py fill FOLDER``: makes the site's front page and takes the pictures of a folder into it."""

from __future__ import annotations

from argparse import ArgumentParser
from pathlib import Path
from typing import Any

from django.contrib.auth import get_user_model
from django.core.files.images import ImageFile
from django.core.management.base import BaseCommand
from wagtail.images import get_image_model
from wagtail.models import Page, Site

from home.models import PicturePage


class Command(BaseCommand):
    help = "Makes the front page and takes pictures in."

    def add_arguments(self, parser: ArgumentParser) -> None:
        parser.add_argument("folder", type=Path)

    def handle(self, *args: Any, folder: Path, **options: Any) -> None:
        get_user_model().objects.create_superuser("keeper", "keeper@ledge.example", "the lamp is lit")
        images = []
        for place in sorted(folder.iterdir()):
            with place.open("rb") as file:
                image = get_image_model()(title=place.stem, file=ImageFile(file, name=place.name))
                image.save()
            images.append(image)
        top = Page.objects.get(depth=1)
        page = top.add_child(instance=PicturePage(title="Gannet Ledge Light", slug="front", hero=images[0]))
        Site.objects.update(is_default_site=False)
        Site.objects.update_or_create(
            hostname="localhost", port=80, defaults={"root_page": page, "is_default_site": True}
        )
