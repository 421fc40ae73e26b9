"""A report in Wagtail's admin: what each image weighed and weighs, with putting it back and its level."""

from __future__ import annotations

from typing import Any

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.middleware.csrf import get_token
from django.shortcuts import get_object_or_404, redirect
from django.urls import reverse
from django.views.decorators.http import require_POST
from wagtail.admin.auth import permission_denied
from wagtail.admin.ui.tables import BaseColumn, Column, TitleColumn
from wagtail.admin.views.reports import ReportView
from wagtail.images import get_image_model
from wagtail.permissions import policy_registry

from plumcrate.contract.pictures import OverrideRequest
from plumcrate.contract.runs import RunKind, RunRequest, Scope
from plumcrate.words import saved, size
from plumcrate_django.conf import site
from plumcrate_django.service import service

LEVELS = ("exact", "gallery", "everyday", "lean", "leave")


def images_policy() -> Any:
    """Who may change which image, by Wagtail's own rules; it is known when all apps are ready."""
    return policy_registry.get_by_type(get_image_model())


class ActsColumn(BaseColumn):
    cell_template_name = "plumcrate_wagtail/acts.html"

    def get_cell_context_data(self, instance: Any, parent_context: Any) -> dict[str, Any]:
        context: dict[str, Any] = super().get_cell_context_data(instance, parent_context)
        return context | {"levels": LEVELS, "token": get_token(parent_context["request"])}


class WeightsReport(ReportView):
    """Every image that the person may change, with what the service knows of its file."""

    page_title = "Picture weights"
    header_icon = "image"
    index_url_name = "plumcrate_weights"
    index_results_url_name = "plumcrate_weights_results"
    is_searchable = True
    default_ordering = "-file_size"
    any_permission_required = ["change"]
    columns = [
        TitleColumn("title", label="Image", sort_key="title", get_url=lambda one: _edit_url(one)),
        Column("before", label="Before", accessor=lambda one: _size(one, "size_before")),
        Column("file_size", label="Now", sort_key="file_size", accessor=lambda one: _size(one, "size_now")),
        Column("fetched", label="Browsers fetch", accessor=lambda one: _size(one, "lightest")),
        Column("saved", label="Saved", accessor=lambda one: _saved(one)),
        Column("score", label="Score", accessor=lambda one: _score(one)),
        Column(
            "state", label="State", accessor=lambda one: one.site_file.state if one.site_file else "not known"
        ),
        ActsColumn("acts", label=""),
    ]
    list_export = ["title", "file.name", "file_size"]

    @property
    def permission_policy(self) -> Any:
        return images_policy()

    def get_base_queryset(self) -> Any:
        may = images_policy().instances_user_has_any_permission_for(self.request.user, ["change"])
        return may.order_by("pk")

    def get_table(self, object_list: Any) -> Any:
        images = list(object_list)
        files = service().files(image.file.name for image in images)
        for image in images:
            image.site_file = files.get(image.file.name)
        return super().get_table(images)


def _edit_url(image: Any) -> str:
    return reverse("wagtailimages:edit", args=[image.pk])


def _size(image: Any, what: str) -> str:
    return size(getattr(image.site_file, what)) if image.site_file is not None else "–"


def _saved(image: Any) -> str:
    file = image.site_file
    return "–" if file is None else saved(file.size_before, file.lightest)


def _score(image: Any) -> str:
    file = image.site_file
    return "–" if file is None or file.score is None else f"{file.score:.0f}"


@require_POST
def act(request: HttpRequest, image_id: int) -> HttpResponse:
    """Puts an image's original back, or gives it a level of its own; the service does it soon."""
    image = get_object_or_404(get_image_model(), pk=image_id)
    if not images_policy().user_has_permission_for_instance(request.user, "change", image):
        return permission_denied(request)
    file = service().files([image.file.name]).get(image.file.name)
    if file is None:
        messages.error(request, f"“{image.title}” is not known to Plum Crate, or it does not answer.")
        return redirect("plumcrate_weights")
    client, library, pictures = service().client, site().library, Scope(pictures=[file.picture_id])
    wanted = request.POST.get("act")
    if wanted == "restore":
        done = service().asked(
            lambda: client.runs.start(RunRequest(library=library, kind=RunKind.RESTORE, scope=pictures))
        )
        said = f"The original of “{image.title}” is put back."
    elif wanted in LEVELS:
        done = service().asked(
            lambda: (
                client.pictures.override(file.picture_id, OverrideRequest(override=wanted))
                and client.runs.start(RunRequest(library=library, scope=pictures))
            )
        )
        said = f"“{image.title}” is treated at the level {wanted}."
        if wanted == "leave":
            said = f"“{image.title}” is left alone from now on."
    else:
        return HttpResponse("there is no such act", status=400, content_type="text/plain")
    if done is None:
        messages.error(request, "Plum Crate did not do it: the site's log says why.")
    else:
        messages.success(request, said)
    return redirect("plumcrate_weights")
