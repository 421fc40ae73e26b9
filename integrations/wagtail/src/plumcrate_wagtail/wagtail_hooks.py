"""The report in Wagtail's menu."""

from __future__ import annotations

from typing import Any

from django.urls import path, reverse
from wagtail import hooks
from wagtail.admin.menu import MenuItem

from .views import WeightsReport, act, images_policy


class WeightsMenuItem(MenuItem):
    def is_shown(self, request: Any) -> bool:
        return bool(images_policy().user_has_any_permission(request.user, ["change"]))


@hooks.register("register_admin_urls")
def admin_urls() -> list[Any]:
    return [
        path("reports/picture-weights/", WeightsReport.as_view(), name="plumcrate_weights"),
        path(
            "reports/picture-weights/results/",
            WeightsReport.as_view(results_only=True),
            name="plumcrate_weights_results",
        ),
        path("reports/picture-weights/<int:image_id>/", act, name="plumcrate_act"),
    ]


@hooks.register("register_reports_menu_item")
def menu_item() -> MenuItem:
    return WeightsMenuItem("Picture weights", reverse("plumcrate_weights"), icon_name="image", order=900)
