"""Every request of the API as data: the one list from which both clients have their methods."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Generic, TypeVar
from urllib.parse import quote

from pydantic import BaseModel, TypeAdapter

from plumcrate import contract
from plumcrate.contract import Job, JobKind, NewFiles, Page

T = TypeVar("T")
Params = Mapping[str, Any]


@dataclass(frozen=True, slots=True)
class Call(Generic[T]):
    """One request and how its answer is read; None: as bytes. ``seconds``: how long to wait when it is not
    the usual."""

    method: str
    path: str
    answer: TypeAdapter[T] | None
    params: Params | None = None
    body: BaseModel | None = None
    content: bytes | None = None
    headers: Mapping[str, str] | None = None
    seconds: float | None = None


def _get(path: str, answer: type[T], /, **params: Any) -> Call[T]:
    given = {name: value for name, value in params.items() if value is not None}
    return Call("GET", path, TypeAdapter(answer), given)


def _post(path: str, answer: type[T], body: BaseModel | None = None) -> Call[T]:
    return Call("POST", path, TypeAdapter(answer), body=body)


def health() -> Call[contract.Health]:
    return _get("/health", contract.Health)


def who() -> Call[contract.Person | None]:
    """Whose the key is; a key that is not known is refused."""
    return Call("GET", "/session", TypeAdapter(contract.Person | None))


def machine() -> Call[contract.Machine]:
    """Whether everything is there that treating needs."""
    return _get("/machine", contract.Machine)


def settings() -> Call[list[contract.Setting]]:
    """Those of the service in force, and where each comes from."""
    return _get("/settings", list[contract.Setting])


def formats() -> Call[list[contract.Format]]:
    """The picture formats known to the service."""
    return _get("/formats", list[contract.Format])


def keys(library: str | None = None) -> Call[list[contract.Key]]:
    """All, or those that open one library alone."""
    return _get(f"{_within(library)}/keys", list[contract.Key])


def make_key(request: contract.KeyRequest) -> Call[contract.NewKey]:
    """For any libraries; the answer holds the secret."""
    return _post("/keys", contract.NewKey, request)


def make_library_key(library: str, request: contract.LibraryKeyRequest) -> Call[contract.NewKey]:
    return _post(f"{_within(library)}/keys", contract.NewKey, request)


def rotate_key(number: int, request: contract.Rotation, library: str | None = None) -> Call[contract.NewKey]:
    """A new secret for the same; the former one goes on for a while."""
    return _post(f"{_within(library)}/keys/{number}/rotation", contract.NewKey, request)


def revoke_key(number: int, library: str | None = None) -> Call[None]:
    return Call("DELETE", f"{_within(library)}/keys/{number}", TypeAdapter(type(None)))


def people() -> Call[list[contract.PersonRow]]:
    return _get("/people", list[contract.PersonRow])


def change_person(number: int, change: contract.PersonChange) -> Call[contract.PersonRow]:
    """What the change leaves out stays as it is."""
    return Call("PATCH", f"/people/{number}", TypeAdapter(contract.PersonRow), body=change)


def remove_person(number: int) -> Call[None]:
    return Call("DELETE", f"/people/{number}", TypeAdapter(type(None)))


def new_password(number: int) -> Call[contract.NewInvitation]:
    """A link with which a person chooses a new password."""
    return _post(f"/people/{number}/new-password", contract.NewInvitation)


def members(library: str) -> Call[list[contract.Member]]:
    """Those with a role in a library."""
    return _get(f"{_within(library)}/people", list[contract.Member])


def change_member(library: str, number: int, role: contract.Role) -> Call[contract.Member]:
    body = contract.MemberChange(role=role)
    return Call("PUT", f"{_within(library)}/people/{number}", TypeAdapter(contract.Member), body=body)


def remove_member(library: str, number: int) -> Call[None]:
    """The account stays."""
    return Call("DELETE", f"{_within(library)}/people/{number}", TypeAdapter(type(None)))


def invitations(library: str | None = None) -> Call[list[contract.Invitation]]:
    """Those that wait: all, or those to one library alone."""
    return _get(f"{_within(library)}/invitations", list[contract.Invitation])


def invite(request: contract.InvitationRequest) -> Call[contract.NewInvitation]:
    """To any libraries, or to the whole service."""
    return _post("/invitations", contract.NewInvitation, request)


def invite_member(library: str, request: contract.MemberInvitation) -> Call[contract.NewInvitation]:
    return _post(f"{_within(library)}/invitations", contract.NewInvitation, request)


def take_back(number: int, library: str | None = None) -> Call[None]:
    """An invitation that waits."""
    return Call("DELETE", f"{_within(library)}/invitations/{number}", TypeAdapter(type(None)))


def audit(
    library: str | None = None,
    search: str | None = None,
    outcome: contract.Outcome | None = None,
    since: datetime | None = None,
    until: datetime | None = None,
    offset: int = 0,
    limit: int = 60,
) -> Call[Page[contract.AuditEntry]]:
    """Who did what, the latest first."""
    return _get(
        f"{_within(library)}/audit",
        Page[contract.AuditEntry],
        search=search,
        outcome=outcome,
        since=since,
        until=until,
        offset=offset,
        limit=limit,
    )


def audit_export(library: str | None = None) -> Call[bytes]:
    """The whole of it as CSV."""
    return Call("GET", f"{_within(library)}/audit/export", None, seconds=300)


def allowance(library: str) -> Call[contract.Allowance]:
    """What may be treated in this month, and what was."""
    return _get(f"{_within(library)}/allowance", contract.Allowance)


def set_allowance(library: str, settings: contract.AllowanceSettings) -> Call[contract.Allowance]:
    path = f"{_within(library)}/allowance"
    return Call("PUT", path, TypeAdapter(contract.Allowance), body=settings)


def webhook(library: str) -> Call[contract.Webhook]:
    """Where a library tells what came to pass, and how its messages fared."""
    return _get(f"{_within(library)}/webhook", contract.Webhook)


def set_webhook(library: str, settings: contract.WebhookSettings) -> Call[contract.Webhook]:
    return Call("PUT", f"{_within(library)}/webhook", TypeAdapter(contract.Webhook), body=settings)


def make_webhook_secret(library: str) -> Call[contract.WebhookSecret]:
    """Shown this once; a former one is worth nothing from now on."""
    return _post(f"{_within(library)}/webhook/secret", contract.WebhookSecret)


def try_webhook(library: str) -> Call[contract.Webhook]:
    """Sends a message that says nothing but that it came."""
    return _post(f"{_within(library)}/webhook/trial", contract.Webhook)


def report(library: str, begins: str | None = None, ends: str | None = None) -> Call[contract.Report]:
    """What was saved in some months, such as 2026-01 to 2026-11; this month without any."""
    return _get(f"{_within(library)}/report", contract.Report, begins=begins, ends=ends)


def report_file(library: str, form: str, begins: str | None = None, ends: str | None = None) -> Call[bytes]:
    """The same as ``pdf`` or ``csv``."""
    months = {name: value for name, value in (("begins", begins), ("ends", ends)) if value is not None}
    return Call("GET", f"{_within(library)}/report/{form}", None, months, seconds=120)


def report_settings(library: str) -> Call[contract.ReportSettings]:
    return _get(f"{_within(library)}/report-settings", contract.ReportSettings)


def set_report_settings(library: str, settings: contract.ReportSettings) -> Call[contract.ReportSettings]:
    path = f"{_within(library)}/report-settings"
    return Call("PUT", path, TypeAdapter(contract.ReportSettings), body=settings)


def kept_reports(library: str) -> Call[list[contract.KeptReport]]:
    """Of months that were over, the latest first."""
    return _get(f"{_within(library)}/reports", list[contract.KeptReport])


def kept_report(library: str, month: str, form: str) -> Call[bytes]:
    """As ``pdf`` or ``csv``."""
    return Call("GET", f"{_within(library)}/reports/{month}/{form}", None)


def keep_report(library: str, month: str) -> Call[Job]:
    """Makes a month's report as it is made by itself when the month is over."""
    return _post(f"{_within(library)}/reports", Job, contract.ReportRequest(month=month))


def _within(library: str | None) -> str:
    return "" if library is None else f"/libraries/{library}"


def libraries() -> Call[list[contract.Library]]:
    return _get("/libraries", list[contract.Library])


def library(slug: str) -> Call[contract.Library]:
    return _get(f"/libraries/{slug}", contract.Library)


def connect(request: contract.LibraryRequest) -> Call[contract.Library]:
    return _post("/libraries", contract.Library, request)


def server_rules(slug: str, server: contract.ServerKind) -> Call[bytes]:
    """Configuration for the site's own server."""
    return Call("GET", f"/libraries/{slug}/server-rules/{server}", None)


def ask(slug: str, request: contract.AskRequest) -> Call[contract.AskReport]:
    """What each browser gets of a file, or of the pictures of a page."""
    body = TypeAdapter(contract.AskReport)
    return Call("POST", f"/libraries/{slug}/asking", body, body=request, seconds=300)


def purges(slug: str) -> Call[contract.Purges]:
    """What caches have yet to be told."""
    return _get(f"/libraries/{slug}/purges", contract.Purges)


def traffic(slug: str, days: int = 30) -> Call[contract.Traffic]:
    """What visitors were sent, over so many days."""
    return _get(f"/libraries/{slug}/traffic", contract.Traffic, days=days)


def log_position(slug: str, log: str) -> Call[contract.LogPosition]:
    """How far an access log was counted."""
    return _get(f"/libraries/{slug}/traffic/log", contract.LogPosition, log=log)


def count_log(slug: str, counts: contract.Counts) -> Call[contract.LogPosition]:
    """Counts a stretch of an access log."""
    return _post(f"/libraries/{slug}/traffic/log", contract.LogPosition, counts)


def page_files(slug: str, request: contract.PageFiles) -> Call[list[contract.PageFile]]:
    """What pages need to know of files, by their paths."""
    return _post(f"/libraries/{slug}/page-files", list[contract.PageFile], request)


def page_faults(slug: str) -> Call[contract.PageFaults]:
    """Pages that could not be rewritten, and so left as their authors wrote them."""
    return _get(f"/libraries/{slug}/page-faults", contract.PageFaults)


def page(slug: str, content: bytes, address: str = "/", kind: str = "text/html") -> Call[bytes]:
    """A page of the site with the right markup; ``address``: where it is there."""
    params, headers = {"address": address}, {"Content-Type": kind}
    return Call(
        "POST", f"/libraries/{slug}/page", None, params, content=content, headers=headers, seconds=300
    )


def weigh(slug: str, request: contract.WeighRequest) -> Call[Job]:
    """Begins to weigh pages; the job's report names the weighings."""
    return _post(f"/libraries/{slug}/weighings", Job, request)


def site_pages(slug: str) -> Call[list[contract.SitePage]]:
    """The pages that were weighed, or are to be."""
    return _get(f"/libraries/{slug}/site-pages", list[contract.SitePage])


def site_page(page_id: int) -> Call[contract.SitePage]:
    return _get(f"/site-pages/{page_id}", contract.SitePage)


def change_page(slug: str, address: str, settings: contract.PageSettings) -> Call[contract.SitePage]:
    """Settings of a page; one that is not known yet is noted."""
    answer = TypeAdapter(contract.SitePage)
    return Call("PUT", f"/libraries/{slug}/site-pages", answer, {"address": address}, body=settings)


def forget_page(page_id: int) -> Call[None]:
    """With all its weighings."""
    return Call("DELETE", f"/site-pages/{page_id}", TypeAdapter(None))


def weighings(page_id: int, limit: int = 20) -> Call[list[contract.Weighing]]:
    """Of a page, the latest first."""
    return _get(f"/site-pages/{page_id}/weighings", list[contract.Weighing], limit=limit)


def page_history(page_id: int) -> Call[list[contract.Point]]:
    """What a page weighed over time, the oldest first."""
    return _get(f"/site-pages/{page_id}/history", list[contract.Point])


def weighing(weighing_id: int) -> Call[contract.Weighing]:
    return _get(f"/weighings/{weighing_id}", contract.Weighing)


def shot(slug: str, shot_id: int) -> Call[bytes]:
    """A picture of a page, as WebP."""
    return Call("GET", f"/libraries/{slug}/shots/{shot_id}", None)


def treat_page(weighing_id: int, *, everything: bool = False) -> Call[contract.Run]:
    """Treats what a page shows, the first view or all of it, before all that waits."""
    return _post(f"/weighings/{weighing_id}/run", contract.Run, contract.TreatPage(everything=everything))


def note_need(weighing_id: int, device: contract.Device, number: int) -> Call[list[contract.Needed]]:
    """Notes the size that a picture's place needs."""
    body = contract.NeededRequest(device=device, number=number)
    return _post(f"/weighings/{weighing_id}/needs", list[contract.Needed], body)


def needs(slug: str) -> Call[list[contract.Needed]]:
    """Sizes that places need, the latest first."""
    return _get(f"/libraries/{slug}/needs", list[contract.Needed])


def forget_need(slug: str, need_id: int) -> Call[None]:
    return Call("DELETE", f"/libraries/{slug}/needs/{need_id}", TypeAdapter(None))


def change_library(slug: str, change: contract.LibraryChange) -> Call[contract.Library]:
    return Call("PATCH", f"/libraries/{slug}", TypeAdapter(contract.Library), body=change)


def disconnect(slug: str) -> Call[None]:
    return Call("DELETE", f"/libraries/{slug}", TypeAdapter(None))


def savings(slug: str) -> Call[contract.Savings]:
    return _get(f"/libraries/{slug}/savings", contract.Savings)


def pictures(slug: str, **filters: Any) -> Call[Page[contract.Picture]]:
    """Filters: state, folder, search, path, format, sort, offset, limit."""
    return _get(f"/libraries/{slug}/pictures", Page[contract.Picture], **filters)


def picture(picture_id: int) -> Call[contract.PictureDetail]:
    return _get(f"/pictures/{picture_id}", contract.PictureDetail)


def set_own(picture_id: int, request: contract.OwnRequest) -> Call[contract.PictureDetail]:
    return Call("PUT", f"/pictures/{picture_id}/own", TypeAdapter(contract.PictureDetail), body=request)


def plan(picture_id: int) -> Call[list[contract.Plan]]:
    """What a run would do to each file of a picture."""
    return _get(f"/pictures/{picture_id}/plan", list[contract.Plan])


def content(file_id: int, version: str = "now") -> Call[bytes]:
    """The bytes of a file: ``now``, ``before``, or the format of what was made beside it."""
    return Call("GET", f"/files/{file_id}/content", None, {"version": version})


def recipe(slug: str) -> Call[contract.Recipe]:
    """The recipe in use."""
    return _get(f"/libraries/{slug}/recipe", contract.Recipe)


def recipes(slug: str) -> Call[list[contract.Recipe]]:
    """All versions of the recipe, the latest first."""
    return _get(f"/libraries/{slug}/recipes", list[contract.Recipe])


def save_recipe(slug: str, settings: contract.RecipeSettings) -> Call[contract.Recipe]:
    return Call("PUT", f"/libraries/{slug}/recipe", TypeAdapter(contract.Recipe), body=settings)


def effect(slug: str, settings: contract.RecipeSettings) -> Call[contract.Effect]:
    """How many files these settings would treat, make again and leave alone."""
    return _post(f"/libraries/{slug}/recipe/effect", contract.Effect, settings)


def start_run(request: contract.RunRequest) -> Call[contract.Run]:
    return _post("/runs", contract.Run, request)


def runs(library: str | None = None, limit: int = 30) -> Call[list[contract.Run]]:
    return _get("/runs", list[contract.Run], library=library, limit=limit)


def run(run_id: int) -> Call[contract.Run]:
    return _get(f"/runs/{run_id}", contract.Run)


def items(run_id: int, **filters: Any) -> Call[Page[contract.Item]]:
    """Filters: state, offset, limit."""
    return _get(f"/runs/{run_id}/items", Page[contract.Item], **filters)


def pause(run_id: int) -> Call[contract.Run]:
    return _post(f"/runs/{run_id}/pause", contract.Run)


def resume(run_id: int) -> Call[contract.Run]:
    return _post(f"/runs/{run_id}/resume", contract.Run)


def stop(run_id: int) -> Call[contract.Run]:
    return _post(f"/runs/{run_id}/stop", contract.Run)


def retry(run_id: int) -> Call[contract.Run]:
    """Tries a run's failed files again."""
    return _post(f"/runs/{run_id}/retry", contract.Run)


def start_survey(slug: str) -> Call[Job]:
    return _post(f"/libraries/{slug}/surveys", Job)


def start_check(slug: str, request: contract.CheckRequest) -> Call[Job]:
    return _post(f"/libraries/{slug}/checks", Job, request)


def start_forecast(slug: str, request: contract.ForecastRequest) -> Call[Job]:
    return _post(f"/libraries/{slug}/forecasts", Job, request)


def prune(slug: str, request: contract.PruneRequest) -> Call[Job]:
    """Begins to delete backups."""
    return _post(f"/libraries/{slug}/prunings", Job, request)


def jobs(slug: str, kind: JobKind | None = None, limit: int = 10) -> Call[list[Job]]:
    """The latest first."""
    return _get(f"/libraries/{slug}/jobs", list[Job], kind=kind, limit=limit)


def job(job_id: int) -> Call[Job]:
    return _get(f"/jobs/{job_id}", Job)


def stop_job(job_id: int) -> Call[Job]:
    return _post(f"/jobs/{job_id}/stop", Job)


def backups(slug: str) -> Call[contract.Backups]:
    return _get(f"/libraries/{slug}/backups", contract.Backups)


def orphans(slug: str, *, offset: int = 0, limit: int = 60) -> Call[Page[contract.Orphan]]:
    """Backups whose file was deleted, moved away or overwritten, the latest first."""
    return _get(f"/libraries/{slug}/orphans", Page[contract.Orphan], offset=offset, limit=limit)


def rescue(slug: str, backup_id: int, request: contract.PutBackRequest) -> Call[contract.Orphan]:
    """Puts such a backup into the library again."""
    return _post(f"/libraries/{slug}/orphans/{backup_id}/restore", contract.Orphan, request)


def recognise(slug: str, request: contract.RecogniseRequest) -> Call[contract.Recognised]:
    """Says that a library's folder is the right one, as it is."""
    return _post(f"/libraries/{slug}/recognise", contract.Recognised, request)


def hook_secret(slug: str) -> Call[contract.HookSecret]:
    """Makes a secret for webhooks; a former one is worth nothing then."""
    return _post(f"/libraries/{slug}/hook-secret", contract.HookSecret)


def upload(
    slug: str, path: str, data: bytes, treat: NewFiles = NewFiles.AT_ONCE, wait: float = 20.0
) -> Call[contract.Uploaded]:
    """Puts a new picture into a library; waits up to ``wait`` seconds for its light form."""
    params = {"treat": str(treat), "wait": wait}
    address = f"/libraries/{slug}/files/{quote(path)}"
    return Call("PUT", address, TypeAdapter(contract.Uploaded), params, content=data, seconds=wait + 60)


def sizes(slug: str) -> Call[list[contract.NamedSize]]:
    return _get(f"/libraries/{slug}/sizes", list[contract.NamedSize])


def save_size(slug: str, name: str, settings: contract.SizeSettings) -> Call[contract.NamedSize]:
    """Defines a size, or changes it; the next run makes what it asks for."""
    return Call("PUT", f"/libraries/{slug}/sizes/{name}", TypeAdapter(contract.NamedSize), body=settings)


def remove_size(slug: str, name: str) -> Call[None]:
    """Its files are removed by the next run."""
    return Call("DELETE", f"/libraries/{slug}/sizes/{name}", TypeAdapter(type(None)))


def size_effect(slug: str, name: str, settings: contract.SizeSettings | None) -> Call[contract.SizeEffect]:
    """What a size would do were it saved so; None: were it removed."""
    proposal = contract.SizeProposal(settings=settings)
    return _post(f"/libraries/{slug}/sizes/{name}/effect", contract.SizeEffect, proposal)


def ladder(slug: str, request: contract.LadderRequest) -> Call[contract.Ladder]:
    """Widths whose steps weigh the same in this library."""
    return _post(f"/libraries/{slug}/ladder", contract.Ladder, request)


def unused_sizes(slug: str, days: int = 30) -> Call[contract.UnusedSizes]:
    """What nobody asked for within so many days."""
    return _get(f"/libraries/{slug}/unused-sizes", contract.UnusedSizes, days=days)


def let_unused_go(slug: str, request: contract.LettingGo) -> Call[contract.FilesLetGo]:
    """The next run removes files of sizes that nobody asked for."""
    return _post(f"/libraries/{slug}/unused-sizes/let-go", contract.FilesLetGo, request)


def bring_back(slug: str, size: str | None = None) -> Call[contract.FilesLetGo]:
    """The next run makes again what was let go."""
    request = contract.BringingBack(size=size)
    return _post(f"/libraries/{slug}/unused-sizes/bring-back", contract.FilesLetGo, request)


def cuts(picture_id: int) -> Call[contract.Cuts]:
    """What every size shows of a picture."""
    return _get(f"/pictures/{picture_id}/cuts", contract.Cuts)


def set_focus(picture_id: int, focus: contract.Focus | None) -> Call[contract.Cuts]:
    """The point that sizes are cut around; None lets it be found again."""
    request = contract.FocusRequest(focus=focus)
    return Call("PUT", f"/pictures/{picture_id}/focus", TypeAdapter(contract.Cuts), body=request)


def touches(picture_id: int) -> Call[contract.TouchedPicture]:
    return _get(f"/pictures/{picture_id}/touches", contract.TouchedPicture)


def touch_up(picture_id: int, request: contract.Touches) -> Call[contract.TouchedPicture]:
    """All steps of a picture, in order; none takes all back."""
    address = f"/pictures/{picture_id}/touches"
    return Call("PUT", address, TypeAdapter(contract.TouchedPicture), body=request)


def touch_up_several(slug: str, request: contract.TouchesFor) -> Call[None]:
    """Adds the same steps to several pictures."""
    return Call("POST", f"/libraries/{slug}/touches", TypeAdapter(type(None)), body=request)


def view_touches(picture_id: int, request: contract.TouchedView) -> Call[bytes]:
    """A WebP of what steps would make of a picture, before they are saved."""
    return Call("POST", f"/pictures/{picture_id}/view", None, body=request, seconds=90)


def marks(slug: str) -> Call[list[contract.MarkRule]]:
    return _get(f"/libraries/{slug}/marks", list[contract.MarkRule])


def save_mark(slug: str, name: str, settings: contract.MarkSettings) -> Call[contract.MarkRule]:
    """Defines a mark, or changes it; the next run lays it over what it fits."""
    return Call("PUT", f"/libraries/{slug}/marks/{name}", TypeAdapter(contract.MarkRule), body=settings)


def set_mark_picture(slug: str, name: str, data: bytes) -> Call[contract.MarkRule]:
    """A PNG or WebP with transparency."""
    address = f"/libraries/{slug}/marks/{name}/picture"
    return Call("PUT", address, TypeAdapter(contract.MarkRule), content=data)


def remove_mark(slug: str, name: str) -> Call[None]:
    """The next run brings the unmarked files back."""
    return Call("DELETE", f"/libraries/{slug}/marks/{name}", TypeAdapter(type(None)))
