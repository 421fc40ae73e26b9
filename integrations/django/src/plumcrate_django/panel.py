"""A panel of django-debug-toolbar: the library's pictures on a page, what they weigh, what was put in."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from debug_toolbar.panels import Panel
from django.http import HttpRequest, HttpResponse

from .middleware import NOTE, PageNote
from .service import service


@dataclass(frozen=True)
class PanelRow:
    """A picture of the page: its file as it stands, as the site once wrote it, and its lightest form."""

    path: str
    pixels: str
    before: int | None
    now: int
    lightest: int
    alternative: str | None


class PagePanel(Panel):
    """``DEBUG_TOOLBAR_PANELS = [..., "plumcrate_django.panel.PagePanel"]``; PagesMiddleware stands after the
    toolbar's in the list of middleware."""

    title = nav_title = "Plum Crate"
    template = "plumcrate_django/panel.html"

    @property
    def nav_subtitle(self) -> str:
        stats = self.get_stats()
        if stats.get("reason"):
            return "left as it is"
        return f"{stats.get('changed', 0)} of {stats.get('pictures', 0)} pictures"

    def generate_stats(self, request: HttpRequest, response: HttpResponse) -> None:
        note: PageNote | None = getattr(request, NOTE, None)
        if note is None:
            self.record_stats({"reason": "PagesMiddleware did not see this answer."})
        elif note.stream is None:
            self.record_stats({"reason": note.reason})
        else:
            self.record_stats(_stats(note))


def _stats(note: PageNote) -> dict[str, Any]:
    assert note.stream is not None
    tally, site = note.stream.tally, service()
    named = site.files(map(site.settings.name_of, tally.files))
    rows = []
    for path, file in tally.files.items():
        known = named.get(site.settings.name_of(path))
        lightest = min([file.bytes, *(copy.bytes for copy in file.copies)])
        said = next(iter(file.alternatives.values()), None)
        before = known.size_before if known is not None else None
        row = PanelRow(path, f"{file.width} × {file.height}", before, file.bytes, lightest, said)
        rows.append(vars(row))
    fault = note.stream.fault
    return {
        "reason": f"The rest of the page passed as it is: {fault!r}" if fault is not None else "",
        "pictures": tally.pictures,
        "changed": tally.changed,
        "left_out": tally.left_out,
        "milliseconds": round(note.seconds * 1000, 1),
        "rows": rows,
        "before": sum(row["before"] or row["now"] for row in rows),
        "lightest": sum(row["lightest"] for row in rows),
    }
