"""One kind of page: a picture across, and all others below."""

from __future__ import annotations

from typing import Any

from django.db import models
from wagtail.images import get_image_model
from wagtail.models import Page


class PicturePage(Page):
    hero = models.ForeignKey("wagtailimages.Image", null=True, on_delete=models.SET_NULL, related_name="+")

    def get_context(self, request: Any, *args: Any, **kwargs: Any) -> dict[str, Any]:
        context: dict[str, Any] = super().get_context(request, *args, **kwargs)
        return context | {"pictures": get_image_model().objects.order_by("pk")}
