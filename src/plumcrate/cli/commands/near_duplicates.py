"""near-duplicates, redirect: pictures that show the same, and what is answered for them."""

from __future__ import annotations

import argparse

from rich.console import RenderableType
from rich.text import Text

from plumcrate.contract.jobs import Job, JobState, NearDuplicatesReport
from plumcrate.contract.near_duplicates import NearDuplicate
from plumcrate.words import size

from .common import CommandResult, Commands, WrongCommand, client, console, table
from .pictures import find


def add_commands(commands: Commands) -> None:
    groups = commands.add("near-duplicates")
    groups.add_argument("library")
    groups.add_argument("--look", action="store_true", help="first look at all that is new or changed")
    groups.add_argument("--limit", type=int, default=10, metavar="N", help="groups, at most 100 (default 10)")
    groups.add_argument("--apart", action="append", metavar="PICTURE", help="keep it out of all groups")
    groups.add_argument("--group", action="append", metavar="PICTURE", help="let it be in a group again")
    groups.set_defaults(command=_near_duplicates)

    redirect = commands.add("redirect")
    redirect.add_argument("library")
    redirect.add_argument("picture", help="its path in the library, or its number")
    where = redirect.add_mutually_exclusive_group(required=True)
    where.add_argument("--to", metavar="PICTURE", help="the picture that is answered instead")
    where.add_argument("--end", action="store_true", help="answer with the picture itself again")
    redirect.set_defaults(command=_redirect)


def _near_duplicates(options: argparse.Namespace) -> CommandResult:
    library, lines, code = options.library, list[RenderableType](), 0
    if not 1 <= options.limit <= 100:
        raise WrongCommand("--limit is between 1 and 100")
    with client() as service:
        if options.look:
            with console.status(f"Looking at the pictures of {library} …"):
                job = service.jobs.wait(service.jobs.search_near_duplicates(library).id)
            lines.append(_looked(job))
            code = int(job.state is not JobState.FINISHED)
        for apart, pictures in ((True, options.apart), (False, options.group)):
            for picture in pictures or ():
                service.near_duplicates.keep_apart(find(service, library, picture), apart)
                lines.append(f"{picture} {'is kept out of all groups' if apart else 'may be grouped again'}.")
        found = service.near_duplicates.page(library, limit=options.limit)
    for group in found.rows:
        rows = [
            (
                str(one.picture_id),
                one.path,
                f"{one.width:,} × {one.height:,}",
                size(one.bytes),
                shown(one),
                str(len(one.pages)) if one.pages else "",
            )
            for one in group.pictures
        ]
        head = f"{len(rows)} pictures, {size(group.bytes)}, {size(group.spare)} beyond the largest"
        names = ("number", "picture", "pixels", "now", "shows", "pages")
        lines += [Text(head, "bold"), table(names, rows, right=("number", "now", "pages"))]
    lines.append(
        f"{found.total:,} group{'s' * (found.total != 1)} of {found.pictures:,} pictures; "
        f"{size(found.spare)} beyond the largest{' of each' * (found.total != 1)}."
        if found.total
        else "No near duplicates are known." + ("" if options.look else " --look looks for them.")
    )
    return CommandResult(found, lines, code)


def _looked(job: Job) -> RenderableType:
    report = job.near_duplicates or NearDuplicatesReport()
    if job.state is not JobState.FINISHED:
        return Text(f"The look has {job.state}" + (f": {job.reason}" if job.reason else "."), "yellow")
    return (
        f"{report.looked_at:,} of {report.pictures:,} pictures were new or changed and looked at; "
        f"{report.unreadable:,} of them could not be read."
    )


def shown(one: NearDuplicate) -> str:
    """How a picture shows what the largest of its group does."""
    if one.redirect is not None:
        return f"answered with {one.redirect}"
    if one.largest:
        return "the largest"
    if one.shows is None:
        return "resembles others of the group"
    if one.shows.identical:
        return "the same bytes"
    said = [f"{one.shows.part:.0%} of it"] if one.shows.part < 0.96 else []
    if abs(one.shows.turn) > 1:
        said.append(f"turned by {abs(one.shows.turn):.0f}°")
    if abs(one.shows.scale - 1) > 0.02:
        said.append(f"at {one.shows.scale:.0%}")
    return ", ".join(said) or "the same, saved anew"


def _redirect(options: argparse.Namespace) -> CommandResult:
    with client() as service:
        picture = find(service, options.library, options.picture)
        if options.end:
            service.near_duplicates.take_redirect_back(picture)
            return CommandResult(None, [f"{options.picture} is answered with itself."])
        said = service.near_duplicates.redirect(picture, find(service, options.library, options.to))
    line = (
        f"Whoever asks for {options.picture} gets {said.to_path}, where Plum Crate serves or rewrites pages."
    )
    return CommandResult(said, [line, "Rules for the site's own server have to be written anew."])
