"""Every request of the API as data: the one list from which both clients have their methods."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any, Generic, TypeVar
from urllib.parse import quote

from pydantic import BaseModel, TypeAdapter

from plumcrate.contract.allowance import Allowance, AllowanceSettings
from plumcrate.contract.automation import HookSecret, NewFiles, Uploaded
from plumcrate.contract.care import Backups, Machine, Orphan, PutBackRequest, Reattached, ReattachRequest
from plumcrate.contract.common import Page
from plumcrate.contract.delivery import (
    AskReport,
    AskRequest,
    Counts,
    LogPosition,
    PageFaults,
    PageFile,
    PageFiles,
    Purges,
    ServerKind,
    Traffic,
)
from plumcrate.contract.descriptions import (
    BulkRequest,
    BulkResult,
    Description,
    DescriptionChange,
    DescriptionSettings,
    DescriptionsSummary,
    ImportResult,
    SearchTerm,
    TermsTaken,
    Texts,
    Undone,
)
from plumcrate.contract.folders import FolderView
from plumcrate.contract.jobs import CheckRequest, ForecastRequest, Job, JobKind, PruneRequest, ReportRequest
from plumcrate.contract.libraries import Library, LibraryChange, LibraryRequest
from plumcrate.contract.mapping import FolderProposal, MappingTaken, ProposalAnswer
from plumcrate.contract.mapping import Mapping as RenditionMapping
from plumcrate.contract.near_duplicates import KeptApart, NearDuplicates, Redirected, RedirectTo
from plumcrate.contract.people import (
    ActOutcome,
    AuditEntry,
    Health,
    Invitation,
    InvitationRequest,
    Key,
    KeyRequest,
    LibraryKeyRequest,
    Member,
    MemberChange,
    MemberInvitation,
    NewInvitation,
    NewKey,
    Person,
    PersonChange,
    PersonRow,
    Role,
    Rotation,
    Setting,
)
from plumcrate.contract.pictures import (
    Changed,
    Facets,
    Format,
    OverrideRequest,
    OverridesRequest,
    Picture,
    PictureDetail,
)
from plumcrate.contract.recipes import Effect, FilePlan, Recipe, RecipeSettings, Trial, TrialRequest
from plumcrate.contract.reports import KeptReport, ReportSettings, SavingsReport
from plumcrate.contract.runs import Item, Run, RunKind, RunRequest, RunState
from plumcrate.contract.savings import Savings
from plumcrate.contract.site_files import SiteFile, SiteFilesRequest
from plumcrate.contract.sizes import (
    BringingBack,
    Cuts,
    Focus,
    FocusRequest,
    Ladder,
    LadderRequest,
    NamedSize,
    RemoveUnused,
    SizeEffect,
    SizeProposal,
    SizeSettings,
    UnusedFiles,
    UnusedSizes,
)
from plumcrate.contract.touches import (
    TouchedPicture,
    TouchedView,
    Touches,
    TouchesFor,
    WatermarkRule,
    WatermarkSettings,
)
from plumcrate.contract.webhooks import Webhook, WebhookSecret, WebhookSettings
from plumcrate.contract.weighing import (
    Device,
    Needed,
    NeededRequest,
    PageSettings,
    Point,
    SitePage,
    TreatPage,
    Weighing,
    WeighRequest,
)

from .errors import WrongNameError

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


def health() -> Call[Health]:
    return _get("/health", Health)


def whoami() -> Call[Person | None]:
    """Whose the key is; a key that is not known is refused."""
    return Call("GET", "/session", TypeAdapter(Person | None))


def machine() -> Call[Machine]:
    """Whether everything is there that treating needs."""
    return _get("/machine", Machine)


def settings() -> Call[list[Setting]]:
    """Those of the service in force, and where each comes from."""
    return _get("/settings", list[Setting])


def formats() -> Call[list[Format]]:
    """The picture formats known to the service."""
    return _get("/formats", list[Format])


def keys(library: str | None = None, *, after: str | None = None, limit: int = 100) -> Call[Page[Key]]:
    """All, or those that open one library alone."""
    return _get(f"{within(library)}/keys", Page[Key], after=after, limit=limit)


def make_key(request: KeyRequest) -> Call[NewKey]:
    """For any libraries; the answer holds the secret."""
    return _post("/keys", NewKey, request)


def make_library_key(library: str, request: LibraryKeyRequest) -> Call[NewKey]:
    return _post(f"{within(library)}/keys", NewKey, request)


def rotate_key(number: int, request: Rotation, library: str | None = None) -> Call[NewKey]:
    """A new secret for the same; the former one goes on for a while."""
    return _post(f"{within(library)}/keys/{part(number)}/rotation", NewKey, request)


def revoke_key(number: int, library: str | None = None) -> Call[None]:
    return Call("DELETE", f"{within(library)}/keys/{part(number)}", TypeAdapter(type(None)))


def people(*, after: str | None = None, limit: int = 100) -> Call[Page[PersonRow]]:
    return _get("/people", Page[PersonRow], after=after, limit=limit)


def change_person(number: int, change: PersonChange) -> Call[PersonRow]:
    """What the change leaves out stays as it is."""
    return Call("PATCH", f"/people/{part(number)}", TypeAdapter(PersonRow), body=change)


def remove_person(number: int) -> Call[None]:
    return Call("DELETE", f"/people/{part(number)}", TypeAdapter(type(None)))


def new_password(number: int) -> Call[NewInvitation]:
    """A link with which a person chooses a new password."""
    return _post(f"/people/{part(number)}/new-password", NewInvitation)


def members(library: str, *, after: str | None = None, limit: int = 100) -> Call[Page[Member]]:
    """Those with a role in a library."""
    return _get(f"{within(library)}/people", Page[Member], after=after, limit=limit)


def change_member(library: str, number: int, role: Role) -> Call[Member]:
    body = MemberChange(role=role)
    return Call("PUT", f"{within(library)}/people/{part(number)}", TypeAdapter(Member), body=body)


def remove_member(library: str, number: int) -> Call[None]:
    """The account stays."""
    return Call("DELETE", f"{within(library)}/people/{part(number)}", TypeAdapter(type(None)))


def invitations(
    library: str | None = None, *, after: str | None = None, limit: int = 100
) -> Call[Page[Invitation]]:
    """Those that wait: all, or those to one library alone."""
    return _get(f"{within(library)}/invitations", Page[Invitation], after=after, limit=limit)


def invite(request: InvitationRequest) -> Call[NewInvitation]:
    """To any libraries, or to the whole service."""
    return _post("/invitations", NewInvitation, request)


def invite_member(library: str, request: MemberInvitation) -> Call[NewInvitation]:
    return _post(f"{within(library)}/invitations", NewInvitation, request)


def take_back(number: int, library: str | None = None) -> Call[None]:
    """An invitation that waits."""
    return Call("DELETE", f"{within(library)}/invitations/{part(number)}", TypeAdapter(type(None)))


def audit(
    library: str | None = None,
    search: str | None = None,
    outcome: ActOutcome | None = None,
    since: datetime | None = None,
    until: datetime | None = None,
    after: str | None = None,
    limit: int = 60,
) -> Call[Page[AuditEntry]]:
    """Who did what, the latest first."""
    return _get(
        f"{within(library)}/audit",
        Page[AuditEntry],
        search=search,
        outcome=outcome,
        since=since,
        until=until,
        after=after,
        limit=limit,
    )


def audit_export(library: str | None = None) -> Call[bytes]:
    """The whole of it as CSV."""
    return Call("GET", f"{within(library)}/audit/export", None, seconds=300)


def allowance(library: str) -> Call[Allowance]:
    """What may be treated in this month, and what was."""
    return _get(f"{within(library)}/allowance", Allowance)


def set_allowance(library: str, settings: AllowanceSettings) -> Call[Allowance]:
    path = f"{within(library)}/allowance"
    return Call("PUT", path, TypeAdapter(Allowance), body=settings)


def webhook(library: str) -> Call[Webhook]:
    """Where a library tells what came to pass, and how its messages fared."""
    return _get(f"{within(library)}/webhook", Webhook)


def set_webhook(library: str, settings: WebhookSettings) -> Call[Webhook]:
    return Call("PUT", f"{within(library)}/webhook", TypeAdapter(Webhook), body=settings)


def make_webhook_secret(library: str) -> Call[WebhookSecret]:
    """Shown this once; a former one is worth nothing from now on."""
    return _post(f"{within(library)}/webhook/secret", WebhookSecret)


def redeliver(library: str, message: str) -> Call[Webhook]:
    """Sends a message of the webhook again, under its name."""
    return _post(f"{within(library)}/webhook/messages/{part(message)}/redelivery", Webhook)


def try_webhook(library: str) -> Call[Webhook]:
    """Sends a message that says nothing but that it came."""
    return _post(f"{within(library)}/webhook/trial", Webhook)


def report(library: str, begins: str | None = None, ends: str | None = None) -> Call[SavingsReport]:
    """What was saved in some months, such as 2026-01 to 2026-11; this month without any."""
    return _get(f"{within(library)}/report", SavingsReport, begins=begins, ends=ends)


def report_file(library: str, form: str, begins: str | None = None, ends: str | None = None) -> Call[bytes]:
    """The same as ``pdf`` or ``csv``."""
    months = {name: value for name, value in (("begins", begins), ("ends", ends)) if value is not None}
    return Call("GET", f"{within(library)}/report/{part(form)}", None, months, seconds=120)


def report_settings(library: str) -> Call[ReportSettings]:
    return _get(f"{within(library)}/report-settings", ReportSettings)


def set_report_settings(library: str, settings: ReportSettings) -> Call[ReportSettings]:
    path = f"{within(library)}/report-settings"
    return Call("PUT", path, TypeAdapter(ReportSettings), body=settings)


def kept_reports(library: str) -> Call[list[KeptReport]]:
    """Of months that were over, the latest first."""
    return _get(f"{within(library)}/reports", list[KeptReport])


def kept_report(library: str, month: str, form: str) -> Call[bytes]:
    """As ``pdf`` or ``csv``."""
    return Call("GET", f"{within(library)}/reports/{part(month)}/{part(form)}", None)


def keep_report(library: str, month: str) -> Call[Job]:
    """Makes a month's report as it is made by itself when the month is over."""
    return _post(f"{within(library)}/reports", Job, ReportRequest(month=month))


def within(library: str | None) -> str:
    return "" if library is None else f"/libraries/{part(library)}"


def part(name: str | int) -> str:
    """A name or a number as one part of a path. Raises WrongNameError where it can be none."""
    if name in ("", ".", ".."):
        raise WrongNameError(f'"{name}" cannot be a name')
    return quote(str(name), safe="")


def libraries() -> Call[list[Library]]:
    return _get("/libraries", list[Library])


def library(slug: str) -> Call[Library]:
    return _get(f"{within(slug)}", Library)


def connect(request: LibraryRequest) -> Call[Library]:
    return _post("/libraries", Library, request)


def server_rules(slug: str, server: ServerKind) -> Call[bytes]:
    """Configuration for the site's own server."""
    return Call("GET", f"{within(slug)}/server-rules/{part(server)}", None)


def ask(slug: str, request: AskRequest) -> Call[AskReport]:
    """What each browser gets of a file, or of the pictures of a page."""
    body = TypeAdapter(AskReport)
    return Call("POST", f"{within(slug)}/asking", body, body=request, seconds=300)


def purges(slug: str) -> Call[Purges]:
    """What caches have yet to be told."""
    return _get(f"{within(slug)}/purges", Purges)


def traffic(slug: str, days: int = 30) -> Call[Traffic]:
    """What visitors were sent, over so many days."""
    return _get(f"{within(slug)}/traffic", Traffic, days=days)


def log_position(slug: str, log: str) -> Call[LogPosition]:
    """How far an access log was counted."""
    return _get(f"{within(slug)}/traffic/log", LogPosition, log=log)


def count_log(slug: str, counts: Counts) -> Call[LogPosition]:
    """Counts a stretch of an access log."""
    return _post(f"{within(slug)}/traffic/log", LogPosition, counts)


def page_files(slug: str, request: PageFiles) -> Call[list[PageFile]]:
    """What pages need to know of files, by their paths."""
    return _post(f"{within(slug)}/page-files", list[PageFile], request)


def page_faults(slug: str) -> Call[PageFaults]:
    """Pages that could not be rewritten, and so left as their authors wrote them."""
    return _get(f"{within(slug)}/page-faults", PageFaults)


def page(slug: str, content: bytes, address: str = "/", kind: str = "text/html") -> Call[bytes]:
    """A page of the site with the right markup; ``address``: where it is there."""
    params, headers = {"address": address}, {"Content-Type": kind}
    return Call("POST", f"{within(slug)}/page", None, params, content=content, headers=headers, seconds=300)


def weigh(slug: str, request: WeighRequest) -> Call[Job]:
    """Begins to weigh pages; the job's report names the weighings."""
    return _post(f"{within(slug)}/weighings", Job, request)


def site_pages(slug: str) -> Call[list[SitePage]]:
    """The pages that were weighed, or are to be."""
    return _get(f"{within(slug)}/site-pages", list[SitePage])


def site_page(page_id: int) -> Call[SitePage]:
    return _get(f"/site-pages/{part(page_id)}", SitePage)


def change_page(slug: str, address: str, settings: PageSettings) -> Call[SitePage]:
    """Settings of a page; one that is not known yet is noted."""
    answer = TypeAdapter(SitePage)
    return Call("PUT", f"{within(slug)}/site-pages", answer, {"address": address}, body=settings)


def forget_page(page_id: int) -> Call[None]:
    """With all its weighings."""
    return Call("DELETE", f"/site-pages/{part(page_id)}", TypeAdapter(None))


def weighings(page_id: int, *, after: str | None = None, limit: int = 20) -> Call[Page[Weighing]]:
    """Of a page, the latest first."""
    return _get(f"/site-pages/{part(page_id)}/weighings", Page[Weighing], after=after, limit=limit)


def page_history(page_id: int) -> Call[list[Point]]:
    """What a page weighed over time, the oldest first."""
    return _get(f"/site-pages/{part(page_id)}/history", list[Point])


def weighing(weighing_id: int) -> Call[Weighing]:
    return _get(f"/weighings/{part(weighing_id)}", Weighing)


def shot(slug: str, shot_id: int) -> Call[bytes]:
    """A picture of a page, as WebP."""
    return Call("GET", f"{within(slug)}/shots/{part(shot_id)}", None)


def treat_page(weighing_id: int, *, everything: bool = False) -> Call[Run]:
    """Treats what a page shows, the first view or all of it, before all that waits."""
    return _post(f"/weighings/{part(weighing_id)}/run", Run, TreatPage(everything=everything))


def note_need(weighing_id: int, device: Device, number: int) -> Call[list[Needed]]:
    """Notes the size that a picture's place needs."""
    body = NeededRequest(device=device, number=number)
    return _post(f"/weighings/{part(weighing_id)}/needs", list[Needed], body)


def needs(slug: str) -> Call[list[Needed]]:
    """Sizes that places need, the latest first."""
    return _get(f"{within(slug)}/needs", list[Needed])


def forget_need(slug: str, need_id: int) -> Call[None]:
    return Call("DELETE", f"{within(slug)}/needs/{part(need_id)}", TypeAdapter(None))


def change_library(slug: str, change: LibraryChange) -> Call[Library]:
    return Call("PATCH", f"{within(slug)}", TypeAdapter(Library), body=change)


def disconnect(slug: str) -> Call[None]:
    return Call("DELETE", f"{within(slug)}", TypeAdapter(None))


def savings(slug: str) -> Call[Savings]:
    return _get(f"{within(slug)}/savings", Savings)


def facets(slug: str, **filters: Any) -> Call[Facets]:
    """What a filter finds, and what each further choice would find."""
    return _get(f"{within(slug)}/facets", Facets, **filters)


def try_on(picture_id: int, request: TrialRequest) -> Call[Trial]:
    """Tries settings, or a level, on a part of a picture. Nothing is changed."""
    address = f"/pictures/{part(picture_id)}/trial"
    return Call("POST", address, TypeAdapter(Trial), body=request, seconds=90)


def set_overrides(slug: str, request: OverridesRequest) -> Call[Changed]:
    """Overrides the recipe for all pictures that a filter finds."""
    return Call("PUT", f"{within(slug)}/overrides", TypeAdapter(Changed), body=request)


def pictures(slug: str, **filters: Any) -> Call[Page[Picture]]:
    """Filters: state, folder, search, path, format, sort, after, limit."""
    return _get(f"{within(slug)}/pictures", Page[Picture], **filters)


def picture(picture_id: int) -> Call[PictureDetail]:
    return _get(f"/pictures/{part(picture_id)}", PictureDetail)


def set_override(picture_id: int, request: OverrideRequest) -> Call[PictureDetail]:
    return Call("PUT", f"/pictures/{part(picture_id)}/override", TypeAdapter(PictureDetail), body=request)


def plan(picture_id: int) -> Call[list[FilePlan]]:
    """What a run would do to each file of a picture."""
    return _get(f"/pictures/{part(picture_id)}/plan", list[FilePlan])


def content(file_id: int, version: str = "now") -> Call[bytes]:
    """The bytes of a file: ``now``, ``before``, or the format of what was made beside it."""
    return Call("GET", f"/files/{part(file_id)}/content", None, {"version": version})


def recipe(slug: str) -> Call[Recipe]:
    """The recipe in use."""
    return _get(f"{within(slug)}/recipe", Recipe)


def recipes(slug: str, *, after: str | None = None, limit: int = 100) -> Call[Page[Recipe]]:
    """All versions of the recipe, the latest first."""
    return _get(f"{within(slug)}/recipes", Page[Recipe], after=after, limit=limit)


def save_recipe(slug: str, settings: RecipeSettings, *, based_on: int | None = None) -> Call[Recipe]:
    """``based_on``: the version that was changed; None overwrites whatever is there. Where somebody saved
    another meanwhile, nothing is saved, and ``changed-meanwhile`` is answered."""
    headers = {"If-Match": "*" if based_on is None else f'"{based_on}"'}
    return Call("PUT", f"{within(slug)}/recipe", TypeAdapter(Recipe), body=settings, headers=headers)


def effect(slug: str, settings: RecipeSettings) -> Call[Effect]:
    """How many files these settings would treat, make again and leave alone."""
    return _post(f"{within(slug)}/recipe/effect", Effect, settings)


def start_run(request: RunRequest) -> Call[Run]:
    return _post("/runs", Run, request)


def runs(
    library: str | None = None,
    *,
    kind: Sequence[RunKind] = (),
    state: Sequence[RunState] = (),
    after: str | None = None,
    limit: int = 30,
) -> Call[Page[Run]]:
    """The latest first, of every library or of one."""
    asked = {"kind": list(kind) or None, "state": list(state) or None}
    return _get("/runs", Page[Run], library=library, **asked, after=after, limit=limit)


def run(run_id: int) -> Call[Run]:
    return _get(f"/runs/{part(run_id)}", Run)


def items(run_id: int, **filters: Any) -> Call[Page[Item]]:
    """Filters: state, sort, after, limit."""
    return _get(f"/runs/{part(run_id)}/items", Page[Item], **filters)


def checksums(run_id: int) -> Call[bytes]:
    """The originals that a hand-back put back, as ``sha256sum --check`` reads them."""
    return Call("GET", f"/runs/{part(run_id)}/checksums", None, seconds=120)


def pause(run_id: int) -> Call[Run]:
    return _post(f"/runs/{part(run_id)}/pause", Run)


def resume(run_id: int) -> Call[Run]:
    return _post(f"/runs/{part(run_id)}/resume", Run)


def stop(run_id: int) -> Call[Run]:
    return _post(f"/runs/{part(run_id)}/stop", Run)


def retry(run_id: int) -> Call[Run]:
    """Tries a run's failed files again."""
    return _post(f"/runs/{part(run_id)}/retry", Run)


def start_survey(slug: str) -> Call[Job]:
    return _post(f"{within(slug)}/surveys", Job)


def start_check(slug: str, request: CheckRequest) -> Call[Job]:
    return _post(f"{within(slug)}/checks", Job, request)


def start_forecast(slug: str, request: ForecastRequest) -> Call[Job]:
    return _post(f"{within(slug)}/forecasts", Job, request)


def prune(slug: str, request: PruneRequest) -> Call[Job]:
    """Begins to delete backups."""
    return _post(f"{within(slug)}/prunings", Job, request)


def jobs(
    slug: str, kind: JobKind | None = None, *, after: str | None = None, limit: int = 10
) -> Call[Page[Job]]:
    """The latest first."""
    return _get(f"{within(slug)}/jobs", Page[Job], kind=kind, after=after, limit=limit)


def job(job_id: int) -> Call[Job]:
    return _get(f"/jobs/{part(job_id)}", Job)


def stop_job(job_id: int) -> Call[Job]:
    return _post(f"/jobs/{part(job_id)}/stop", Job)


def backups(slug: str) -> Call[Backups]:
    return _get(f"{within(slug)}/backups", Backups)


def orphans(slug: str, *, after: str | None = None, limit: int = 60) -> Call[Page[Orphan]]:
    """Backups whose file was deleted, moved away or overwritten, the latest first."""
    return _get(f"{within(slug)}/orphans", Page[Orphan], after=after, limit=limit)


def rescue(slug: str, backup_id: int, request: PutBackRequest) -> Call[Orphan]:
    """Puts such a backup into the library again."""
    return _post(f"{within(slug)}/orphans/{part(backup_id)}/restore", Orphan, request)


def reattach(slug: str, request: ReattachRequest) -> Call[Reattached]:
    """Says that a library's folder is the right one, as it is."""
    return _post(f"{within(slug)}/reattach", Reattached, request)


def hook_secret(slug: str) -> Call[HookSecret]:
    """Makes a secret for webhooks; a former one is worth nothing then."""
    return _post(f"{within(slug)}/hook-secret", HookSecret)


def upload(
    slug: str, path: str, data: bytes, treat: NewFiles = NewFiles.AT_ONCE, wait: float = 20.0
) -> Call[Uploaded]:
    """Puts a new picture into a library; waits up to ``wait`` seconds for its light form."""
    params = {"treat": str(treat), "wait": wait}
    address = f"{within(slug)}/files/{'/'.join(map(part, path.split('/')))}"
    return Call("PUT", address, TypeAdapter(Uploaded), params, content=data, seconds=wait + 60)


def sizes(slug: str) -> Call[list[NamedSize]]:
    return _get(f"{within(slug)}/sizes", list[NamedSize])


def save_size(slug: str, name: str, settings: SizeSettings) -> Call[NamedSize]:
    """Defines a size, or changes it; the next run makes what it asks for."""
    return Call("PUT", f"{within(slug)}/sizes/{part(name)}", TypeAdapter(NamedSize), body=settings)


def remove_size(slug: str, name: str) -> Call[None]:
    """Its files are removed by the next run."""
    return Call("DELETE", f"{within(slug)}/sizes/{part(name)}", TypeAdapter(type(None)))


def size_effect(slug: str, name: str, settings: SizeSettings | None) -> Call[SizeEffect]:
    """What a size would do were it saved so; None: were it removed."""
    proposal = SizeProposal(settings=settings)
    return _post(f"{within(slug)}/sizes/{part(name)}/effect", SizeEffect, proposal)


def ladder(slug: str, request: LadderRequest) -> Call[Ladder]:
    """Widths whose steps weigh the same in this library."""
    return _post(f"{within(slug)}/ladder", Ladder, request)


def unused_sizes(slug: str, days: int = 30) -> Call[UnusedSizes]:
    """What nobody asked for within so many days."""
    return _get(f"{within(slug)}/unused-sizes", UnusedSizes, days=days)


def remove_unused(slug: str, request: RemoveUnused) -> Call[UnusedFiles]:
    """The next run removes files of sizes that nobody asked for."""
    return _post(f"{within(slug)}/unused-sizes/remove", UnusedFiles, request)


def bring_back(slug: str, size: str | None = None) -> Call[UnusedFiles]:
    """The next run makes again what was removed."""
    request = BringingBack(size=size)
    return _post(f"{within(slug)}/unused-sizes/bring-back", UnusedFiles, request)


def cuts(picture_id: int) -> Call[Cuts]:
    """What every size shows of a picture."""
    return _get(f"/pictures/{part(picture_id)}/cuts", Cuts)


def set_focus(picture_id: int, focus: Focus | None) -> Call[Cuts]:
    """The point that sizes are cut around; None lets it be found again."""
    request = FocusRequest(focus=focus)
    return Call("PUT", f"/pictures/{part(picture_id)}/focus", TypeAdapter(Cuts), body=request)


def touches(picture_id: int) -> Call[TouchedPicture]:
    return _get(f"/pictures/{part(picture_id)}/touches", TouchedPicture)


def touch_up(picture_id: int, request: Touches) -> Call[TouchedPicture]:
    """All steps of a picture, in order; none takes all back."""
    address = f"/pictures/{part(picture_id)}/touches"
    return Call("PUT", address, TypeAdapter(TouchedPicture), body=request)


def touch_up_several(slug: str, request: TouchesFor) -> Call[None]:
    """Adds the same steps to several pictures."""
    return Call("POST", f"{within(slug)}/touches", TypeAdapter(type(None)), body=request)


def view_touches(picture_id: int, request: TouchedView) -> Call[bytes]:
    """A WebP of what steps would make of a picture, before they are saved."""
    return Call("POST", f"/pictures/{part(picture_id)}/view", None, body=request, seconds=90)


def watermarks(slug: str) -> Call[list[WatermarkRule]]:
    return _get(f"{within(slug)}/watermarks", list[WatermarkRule])


def save_watermark(slug: str, name: str, settings: WatermarkSettings) -> Call[WatermarkRule]:
    """Defines a watermark, or changes it; the next run lays it over what it fits."""
    return Call("PUT", f"{within(slug)}/watermarks/{part(name)}", TypeAdapter(WatermarkRule), body=settings)


def set_watermark_picture(slug: str, name: str, data: bytes) -> Call[WatermarkRule]:
    """A PNG or WebP with transparency."""
    address = f"{within(slug)}/watermarks/{part(name)}/picture"
    return Call("PUT", address, TypeAdapter(WatermarkRule), content=data)


def remove_watermark(slug: str, name: str) -> Call[None]:
    """The next run brings the unmarked files back."""
    return Call("DELETE", f"{within(slug)}/watermarks/{part(name)}", TypeAdapter(type(None)))


def mapping(slug: str) -> Call[RenditionMapping]:
    """What the site said of its renditions."""
    return _get(f"{within(slug)}/mapping", RenditionMapping)


def put_mapping(slug: str, lines: bytes, *, anew: bool = False) -> Call[MappingTaken]:
    """Says which file was made of which, as JSON lines with ``path`` and ``original``. ``anew``: what was
    said before is forgotten first."""
    params = {"anew": "true"} if anew else None
    address = f"{within(slug)}/mapping"
    return Call("PUT", address, TypeAdapter(MappingTaken), params, content=lines, seconds=600)


def descriptions(
    slug: str,
    *,
    language: str = "en",
    wanting: Sequence[str] | None = None,
    folder: str | None = None,
    search: str | None = None,
    page_id: int | None = None,
    used: bool | None = None,
    limit: int = 30,
    after: str | None = None,
) -> Call[Page[Description]]:
    """Pictures by path with what they say. ``wanting``: names of rules. ``after``: the cursor of the page
    before."""
    return _get(
        f"{within(slug)}/descriptions",
        Page[Description],
        language=language,
        wanting=list(wanting) if wanting else None,
        folder=folder,
        search=search,
        page_id=page_id,
        used=used,
        limit=limit,
        after=after,
    )


def descriptions_summary(slug: str, *, language: str = "en") -> Call[DescriptionsSummary]:
    """How far a library is described, and what its weighed pages say."""
    return _get(f"{within(slug)}/descriptions/summary", DescriptionsSummary, language=language)


def picture_descriptions(picture_id: int) -> Call[list[Description]]:
    """What a picture says, in every language of its library."""
    return _get(f"/pictures/{part(picture_id)}/descriptions", list[Description])


def describe(
    picture_id: int, language: str, texts: Texts, *, based_on: int | None = None
) -> Call[Description]:
    """Says what a picture says: all texts of a language. ``based_on``: the version that was changed, 0 for
    none; where somebody changed it meanwhile, nothing is saved, and ``changed-meanwhile`` is answered."""
    headers = {"If-Match": "*" if based_on is None else f'"{based_on}"'}
    path = f"/pictures/{part(picture_id)}/descriptions/{part(language)}"
    return Call("PUT", path, TypeAdapter(Description), body=texts, headers=headers)


def change_descriptions(slug: str, request: BulkRequest) -> Call[BulkResult]:
    """Changes many descriptions at once, or tells what would change."""
    call = _post(f"{within(slug)}/descriptions/change", BulkResult, request)
    return replace(call, seconds=600)


def description_changes(slug: str) -> Call[list[DescriptionChange]]:
    """The latest changes, the latest first."""
    return _get(f"{within(slug)}/description-changes", list[DescriptionChange])


def undo_descriptions(slug: str, change_id: int) -> Call[Undone]:
    """Undoes a change; what somebody changed again since stays."""
    return _post(f"{within(slug)}/description-changes/{part(change_id)}/undo", Undone)


def description_settings(slug: str) -> Call[DescriptionSettings]:
    return _get(f"{within(slug)}/description-settings", DescriptionSettings)


def save_description_settings(slug: str, settings: DescriptionSettings) -> Call[DescriptionSettings]:
    address = f"{within(slug)}/description-settings"
    return Call("PUT", address, TypeAdapter(DescriptionSettings), body=settings)


def search_terms(slug: str) -> Call[list[SearchTerm]]:
    """What people search the site for, the most searched first."""
    return _get(f"{within(slug)}/search-terms", list[SearchTerm])


def put_search_terms(slug: str, table: bytes) -> Call[TermsTaken]:
    """Takes in a CSV with the columns ``term`` and ``count``, in place of what was there."""
    address = f"{within(slug)}/search-terms"
    return Call("PUT", address, TypeAdapter(TermsTaken), content=table, seconds=600)


def descriptions_csv(slug: str, *, language: str = "en") -> Call[bytes]:
    """All descriptions of a language as CSV."""
    params = {"language": language}
    return Call("GET", f"{within(slug)}/descriptions/csv", None, params, seconds=600)


def put_descriptions_csv(
    slug: str, table: bytes, *, language: str = "en", preview: bool = False, clear: bool = False
) -> Call[ImportResult]:
    """Takes in a CSV. ``clear``: an empty cell empties the text."""
    params = {"language": language, "preview": preview, "clear": clear}
    address = f"{within(slug)}/descriptions/csv"
    return Call("PUT", address, TypeAdapter(ImportResult), params, content=table, seconds=600)


def descriptions_xliff(slug: str, source: str, target: str) -> Call[bytes]:
    """All descriptions as XLIFF 2.1, from one language into another."""
    params = {"source": source, "target": target}
    return Call("GET", f"{within(slug)}/descriptions/xliff", None, params, seconds=600)


def put_descriptions_xliff(slug: str, file: bytes, *, preview: bool = False) -> Call[ImportResult]:
    """Takes in translations."""
    address = f"{within(slug)}/descriptions/xliff"
    return Call("PUT", address, TypeAdapter(ImportResult), {"preview": preview}, content=file, seconds=600)


def read_words(slug: str) -> Call[Job]:
    """Reads what the pictures' own metadata says, for suggestions."""
    return _post(f"{within(slug)}/word-readings", Job)


def start_resemblance(slug: str) -> Call[Job]:
    """Looks for renditions by what pictures show; what it finds is proposed."""
    return _post(f"{within(slug)}/resemblances", Job)


def proposals(slug: str) -> Call[list[FolderProposal]]:
    """Folders whose files seem to be renditions."""
    return _get(f"{within(slug)}/proposals", list[FolderProposal])


def answer_proposal(slug: str, answer: ProposalAnswer) -> Call[None]:
    """Whether a folder's files are the renditions that they seem to be."""
    return Call("POST", f"{within(slug)}/proposals", TypeAdapter(type(None)), body=answer)


def site_files(slug: str, paths: Sequence[str]) -> Call[list[SiteFile]]:
    """What is on record of files, by their paths: up to a thousand at a time."""
    request = SiteFilesRequest(paths=list(paths))
    return _post(f"{within(slug)}/site-files", list[SiteFile], request)


def start_near_duplicates(slug: str) -> Call[Job]:
    """Looks at what is new, and groups pictures that show the same; a job."""
    return _post(f"{within(slug)}/near-duplicate-searches", Job)


def near_duplicates(slug: str, *, after: str | None = None, limit: int = 20) -> Call[NearDuplicates]:
    """Groups of pictures that show the same, those with most bytes to spare first."""
    return _get(f"{within(slug)}/near-duplicates", NearDuplicates, after=after, limit=limit)


def keep_apart(picture_id: int, apart: bool = True) -> Call[None]:
    """Keeps a picture out of all groups, or lets it be in one again."""
    path = f"/pictures/{part(picture_id)}/kept-apart"
    return Call("PUT", path, TypeAdapter(type(None)), body=KeptApart(apart=apart))


def redirect_picture(picture_id: int, to: int) -> Call[Redirected]:
    """Answers a picture with another, wherever Plum Crate serves it or rewrites pages."""
    path = f"/pictures/{part(picture_id)}/redirect"
    return Call("PUT", path, TypeAdapter(Redirected), body=RedirectTo(picture_id=to))


def take_redirect_back(picture_id: int) -> Call[None]:
    """Answers a picture with itself again."""
    return Call("DELETE", f"/pictures/{part(picture_id)}/redirect", TypeAdapter(type(None)))


def folders(path: str | None = None) -> Call[FolderView]:
    """What is in a folder of the service's machine; without a path: the folders that may be connected."""
    return _get("/folders", FolderView, path=path)


def metrics() -> Call[bytes]:
    """Figures for a monitoring system, as OpenMetrics text."""
    return Call("GET", "/metrics", None)
