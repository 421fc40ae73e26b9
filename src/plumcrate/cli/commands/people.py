"""people, invite, make-key, keys, rotate-key, revoke-key, audit: who may do what, and who did."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from datetime import datetime
from pathlib import Path

from rich.console import RenderableType
from rich.text import Text

from plumcrate.cli.look import CLAY, QUIET
from plumcrate.contract.people import (
    Ability,
    Grant,
    InvitationRequest,
    Key,
    KeyRequest,
    LibraryKeyRequest,
    MemberInvitation,
    NewInvitation,
    NewKey,
    Role,
    Rotation,
)
from plumcrate.contract.people import ActOutcome as Ended

from .common import CommandResult, Commands, WrongCommand, client, table

_ROLES = [str(role) for role in Role]
_ABILITIES = [str(ability) for ability in Ability]


def add_commands(commands: Commands) -> None:
    people = commands.add("people")
    people.add_argument("library", nargs="?", help="only those of this library")
    people.set_defaults(command=_people)

    invite = commands.add("invite")
    invite.add_argument("email")
    invite.add_argument("--name", default="")
    invite.add_argument(
        "--to",
        action="append",
        default=[],
        metavar="LIBRARY=ROLE",
        help=f"a library and a role in it ({', '.join(_ROLES)}); may be repeated",
    )
    invite.add_argument("--service", action="store_true", help="to administer the whole service")
    invite.add_argument("--days", type=int, default=7, help="how long the link is good (default 7)")
    invite.set_defaults(command=_invite)

    keys = commands.add("keys", rows=Key)
    keys.add_argument("library", nargs="?", help="only those that open this library alone")
    keys.set_defaults(command=_keys)

    make = commands.add("make-key")
    make.add_argument("name")
    make.add_argument("--library", action="append", dest="libraries", help="may be repeated; all without one")
    make.add_argument(
        "--ability",
        action="append",
        dest="abilities",
        choices=_ABILITIES,
        help="may be repeated; look without",
    )
    make.add_argument("--service", action="store_true", help="may administer the whole service")
    make.add_argument("--days", type=int, help="expires after so many days")
    make.set_defaults(command=_make_key)

    rotate = commands.add("rotate-key")
    rotate.add_argument("number", type=int)
    rotate.add_argument("--library", help="for an administrator of this library only")
    rotate.add_argument("--overlap", type=int, default=24, metavar="HOURS", help="default 24")
    rotate.set_defaults(command=_rotate)

    revoke = commands.add("revoke-key")
    revoke.add_argument("number", type=int)
    revoke.add_argument("--library", help="for an administrator of this library only")
    revoke.set_defaults(command=_revoke)

    audit = commands.add("audit")
    audit.add_argument("library", nargs="?", help="only what was done in this library")
    audit.add_argument("--search", help="only what holds all of these words")
    audit.add_argument("--outcome", choices=[str(outcome) for outcome in Ended])
    audit.add_argument("--since", type=_moment, help="such as 2026-11-01")
    audit.add_argument("--until", type=_moment)
    audit.add_argument("--limit", type=int, default=40)
    audit.add_argument("--csv", type=Path, metavar="FILE", help="write all of it to a file")
    audit.set_defaults(command=_audit)


def _people(options: argparse.Namespace) -> CommandResult:
    with client() as service:
        if options.library is None:
            everybody, waiting = service.people.page(), service.invitations.page()
            rows = [
                (
                    str(one.id),
                    one.name,
                    one.email,
                    "suspended" if one.suspended else _rights(one.service, one.grants),
                    "yes" if one.second_factor else "no",
                    _when(one.signed_in_at),
                )
                for one in everybody
            ]
            lines: list[RenderableType] = [
                table(("number", "name", "e-mail", "may", "second factor", "signed in"), rows)
            ]
            value: dict[str, object] = {
                "people": [one.model_dump(mode="json") for one in everybody],
                "invitations": [one.model_dump(mode="json") for one in waiting],
            }
        else:
            members, waiting = (
                service.members.page(options.library),
                service.invitations.page(options.library),
            )
            rows4 = [(str(one.id), one.name, one.email, str(one.role)) for one in members]
            lines = [table(("number", "name", "e-mail", "may"), rows4)]
            value = {
                "people": [one.model_dump(mode="json") for one in members],
                "invitations": [one.model_dump(mode="json") for one in waiting],
            }
    if waiting:
        lines.append(Text("\nInvitations that wait", style="bold"))
        told = [
            (
                str(one.id),
                one.email or "the first administrator",
                _rights(one.service, one.grants),
                one.by,
                _when(one.expires_at),
            )
            for one in waiting
        ]
        lines.append(table(("number", "for", "may", "by", "until"), told))
    return CommandResult(value, lines)


def _rights(service: bool, grants: Sequence[Grant]) -> str:
    return "administer the service" if service else ", ".join(f"{g.role} {g.library}" for g in grants) or "–"


def _invite(options: argparse.Namespace) -> CommandResult:
    grants = [_grant(text) for text in options.to]
    with client() as service:
        person = service.whoami()
        if len(grants) == 1 and not options.service and person is not None and not person.service:
            made = service.invitations.invite_member(
                grants[0].library,
                MemberInvitation(
                    email=options.email, name=options.name, role=grants[0].role, days=options.days
                ),
            )
        else:
            made = service.invitations.invite(
                InvitationRequest(
                    email=options.email,
                    name=options.name,
                    service=options.service,
                    grants=grants,
                    days=options.days,
                )
            )
    return CommandResult(made, _link(made))


def _link(made: NewInvitation) -> list[RenderableType]:
    sent = "It was mailed too." if made.mailed else "Pass it on yourself: it is shown only once."
    if made.mail_fault is not None:
        sent += f" It was not mailed: {made.mail_fault}."
    return [
        Text(made.link, style="bold"),
        Text(f"Opens once, until {_when(made.expires_at)}, for {made.email}. {sent}", style=QUIET),
    ]


def _grant(text: str) -> Grant:
    library, equals, role = text.partition("=")
    if not equals or role not in _ROLES:
        raise WrongCommand(f"--to {text}: give LIBRARY=ROLE, with one of {', '.join(_ROLES)}")
    return Grant(library=library, role=Role(role))


def _keys(options: argparse.Namespace) -> CommandResult:
    with client() as service:
        keys = service.keys.page(options.library)
    rows = [
        (
            str(key.id),
            key.name,
            f"…{key.hint}" if key.hint else "",
            _opens(key),
            _when(key.expires_at),
            _when(key.last_used_at),
            key.last_used_from or "",
        )
        for key in keys
    ]
    heads = ("number", "name", "ends", "may", "until", "last used", "from")
    return CommandResult(keys, [table(heads, rows)])


def _opens(key: Key) -> str:
    if key.service:
        return "administer the service"
    where = "all libraries" if key.libraries is None else ", ".join(key.libraries) or "no library"
    return f"{', '.join(key.abilities)} in {where}"


def _make_key(options: argparse.Namespace) -> CommandResult:
    abilities = [Ability(ability) for ability in options.abilities or ["look"]]
    with client() as service:
        person = service.whoami()
        if person is not None and not person.service and len(options.libraries or ()) == 1:
            asked = LibraryKeyRequest(name=options.name, abilities=abilities, days=options.days)
            made = service.keys.make_for_library(options.libraries[0], asked)
        else:
            made = service.keys.make(
                KeyRequest(
                    name=options.name,
                    abilities=abilities,
                    libraries=options.libraries,
                    service=options.service,
                    days=options.days,
                )
            )
    return CommandResult(made, _secret(made))


def _secret(made: NewKey) -> list[RenderableType]:
    return [
        Text(made.secret, style="bold"),
        Text(
            f"May {_opens(made)}. It is shown this once: keep it where only its machine reads it.",
            style=QUIET,
        ),
    ]


def _rotate(options: argparse.Namespace) -> CommandResult:
    with client() as service:
        made = service.keys.rotate(options.number, Rotation(overlap_hours=options.overlap), options.library)
    former = Text(f"Key {options.number} goes on working for {options.overlap} h.", style=QUIET)
    return CommandResult(made, [*_secret(made), former])


def _revoke(options: argparse.Namespace) -> CommandResult:
    with client() as service:
        service.keys.revoke(options.number, options.library)
    return CommandResult(None, [f"Key {options.number} opens nothing from now on."])


def _audit(options: argparse.Namespace) -> CommandResult:
    with client() as service:
        if options.csv is not None:
            data = service.audit.export(options.library)
            options.csv.write_bytes(data)
            return CommandResult(
                {"file": str(options.csv), "bytes": len(data)}, [f"Written to {options.csv}."]
            )
        page = service.audit.page(
            options.library,
            options.search,
            Ended(options.outcome) if options.outcome else None,
            options.since,
            options.until,
            limit=options.limit,
        )
    rows = [
        (
            f"{entry.at.astimezone():%Y-%m-%d %H:%M:%S}",
            entry.actor or entry.email or "a stranger",
            entry.address,
            entry.library or "",
            Text(entry.act, style="" if entry.outcome is Ended.DONE else CLAY),
            entry.detail if entry.outcome is Ended.DONE else f"{entry.outcome}: {entry.detail}",
        )
        for entry in page.rows
    ]
    more = f"{len(page.rows):,} of {page.total:,}"
    return CommandResult(
        page, [table(("at", "actor", "from", "library", "act", ""), rows), Text(more, style=QUIET)]
    )


def _moment(text: str) -> datetime:
    moment = datetime.fromisoformat(text)
    return moment if moment.tzinfo else moment.astimezone()


def _when(moment: datetime | None) -> str:
    return "–" if moment is None else f"{moment.astimezone():%Y-%m-%d %H:%M}"
