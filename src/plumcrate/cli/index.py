"""Every command by name: its job, the module that makes it, what it does, an example.

The list is light, so that ``plumcrate --help`` need load none of those modules; a command loads its own.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

_HERE = "plumcrate.cli.commands"


@dataclass(frozen=True, slots=True)
class Command:
    """``summary`` begins with a verb; ``example`` is what follows ``plumcrate`` and the command's name."""

    module: str
    summary: str
    example: str = ""


#: The commands of each job, in the order in which jobs are done.
Index = Mapping[str, Mapping[str, Command]]


def _of(module: str, *rows: tuple[str, str, str]) -> dict[str, Command]:
    return {name: Command(f"{_HERE}.{module}", summary, example) for name, summary, example in rows}


INDEX: Index = {
    "Begin": _of(
        "site",
        (
            "set-up",
            "make a site's pages light: look, propose, ask once, do it, check it",
            "/srv/site/media https://site.example/media/ --rules /etc/nginx/light.conf",
        ),
    ),
    "Look: what is there, what it weighs": {
        **_of(
            "libraries",
            ("connect", "connect a folder tree as a library", "/srv/site/media --name 'Gannet Ledge'"),
            ("libraries", "list the connected libraries", ""),
            ("survey", "look through a library; touches nothing", "gannet-ledge"),
            ("map", "say which renditions the site made of which files", "gannet-ledge renditions.jsonl"),
            ("renditions", "find renditions by what pictures show", "gannet-ledge --look"),
        ),
        **_of(
            "care",
            (
                "forecast",
                "treat a sample in memory and say what a run would save",
                "gannet-ledge --seconds 60",
            ),
        ),
        **_of(
            "weighing",
            ("weigh", "weigh pages of the site in a real browser", "gannet-ledge / --what-if recipe"),
            ("weights", "show what the site's pages weigh, and weighed before", "gannet-ledge"),
            (
                "page-settings",
                "say when a page is weighed by itself, and what it may weigh",
                "gannet-ledge / --after-runs yes",
            ),
        ),
        **_of("libraries", ("savings", "show what was saved", "gannet-ledge")),
        **_of(
            "plans",
            (
                "report",
                "show what was saved in some months, or write it for the client",
                "gannet-ledge --from 2026-01 --to 2026-11 --pdf report.pdf",
            ),
        ),
    },
    "Treat: make pictures light": {
        **_of(
            "recipes",
            (
                "recipe",
                "show a library's recipe, try another, or save it",
                "gannet-ledge --set level=gallery --save",
            ),
            (
                "plan",
                "say which rule applies to a picture and what would happen",
                "gannet-ledge 2024/02/open-day-14.jpg",
            ),
            (
                "override",
                "override the recipe for one picture: a level, or leave it alone for ever",
                "gannet-ledge brand/logo.png exact",
            ),
        ),
        **_of(
            "runs",
            ("run", "treat a library, a folder or single pictures", "gannet-ledge --folder 2024"),
            ("runs", "list the latest runs", "gannet-ledge"),
            ("watch", "follow a run; by default the latest", ""),
            ("pause", "pause a run; files in hand are finished first", "7"),
            ("resume", "let a paused run go on", "7"),
            ("stop", "end a run for good; what it did stays", "7"),
            ("retry", "try a run's failed files again", "7"),
        ),
        **_of(
            "weighing", ("treat-page", "treat what a weighing found on its page, before all that waits", "12")
        ),
        **_of(
            "uploading",
            (
                "upload",
                "put pictures into a library, or say what would become of them",
                "gannet-ledge photo.jpg --as 2026/11/photo.jpg",
            ),
        ),
        **_of(
            "care",
            (
                "automation",
                "show or change what happens by itself: new files, hours, backups",
                "gannet-ledge --set new_files=at-once",
            ),
        ),
        "trial": Command(
            "plumcrate.operate.trial",
            "treat files here, without the service; the files themselves stay as they are",
            "photo.jpg --level everyday --out tried",
        ),
    },
    "Review: pictures, sizes, touch-ups, watermarks": {
        **_of(
            "pictures",
            ("list", "list a library's pictures", "gannet-ledge --sort worst"),
            ("show", "show one picture, its files and its history", "gannet-ledge 2024/02/open-day-14.jpg"),
        ),
        **_of(
            "near_duplicates",
            ("near-duplicates", "find pictures that show the same, in groups", "gannet-ledge --look"),
            (
                "redirect",
                "answer a picture with another that shows the same",
                "gannet-ledge '2025/10/headland copy (2).jpg' --to 2024/01/gannet-ledge-headland-01.jpg",
            ),
        ),
        **_of(
            "shapes",
            (
                "touch",
                "touch pictures up: the next run makes them so, from their originals",
                "gannet-ledge 2024/02/open-day-14.jpg --add contrast:amount=12",
            ),
            ("sizes", "list a library's sizes, with what was made for each", "gannet-ledge"),
            (
                "size",
                "say what a size would do, define it, change it or remove it",
                "gannet-ledge card --set way=fill --set width=520 --set height=390 --save",
            ),
            ("ladder", "find widths whose steps weigh the same in this library", "gannet-ledge --most 1600"),
            (
                "cuts",
                "say what every size shows of a picture, and set its focal point",
                "gannet-ledge 2024/02/open-day-14.jpg --focus .5,.3",
            ),
            ("watermarks", "list a library's watermarks", "gannet-ledge"),
            (
                "watermark",
                "define a watermark, change it or remove it",
                "gannet-ledge trust --set words=Ledge",
            ),
        ),
    },
    "Describe: what pictures say": _of(
        "descriptions",
        (
            "descriptions",
            "list what pictures say to those who do not see them, and what is wanting",
            "gannet-ledge --wanting missing --used",
        ),
        (
            "describe",
            "show or change what one picture says",
            "gannet-ledge 2024/02/open-day-14.jpg --alternative 'Visitors climb to the lamp room'",
        ),
        (
            "describe-many",
            "change many descriptions at once; shown first, undone as one",
            "gannet-ledge --wanting missing --accept xmp-caption,iptc-caption --save",
        ),
        (
            "words",
            "read metadata, take in search terms, write and take in tables and translations",
            "gannet-ledge --out descriptions.csv",
        ),
    ),
    "Serve: what visitors get": _of(
        "serving",
        (
            "serving",
            "show or change how a library's files are served",
            "gannet-ledge --set markup.rewrite=true",
        ),
        ("server-rules", "write configuration for the site's own server", "gannet-ledge nginx"),
        ("page", "rewrite an HTML page so that it names the lightest pictures", "gannet-ledge index.html"),
        (
            "ask",
            "ask the site as three browsers: what does each of them get?",
            "gannet-ledge --page /journal",
        ),
        (
            "traffic",
            "show what visitors were sent, or count access logs of the site",
            "gannet-ledge --days 7",
        ),
    ),
    "Keep: backups, restoring, handing back": {
        **_of(
            "runs",
            ("restore", "put originals back and remove our copies", "gannet-ledge --picture brand/logo.png"),
        ),
        **_of("care", ("verify", "compare library, backups and records byte for byte", "gannet-ledge")),
        **_of(
            "keeping",
            ("backups", "show what the backups hold", "gannet-ledge"),
            ("orphans", "list backups whose file was deleted, moved away or overwritten", "gannet-ledge"),
            ("rescue", "put such a backup into the library again", "gannet-ledge 3"),
            ("reattach", "say that a library's folder is the right one, as it is", "gannet-ledge"),
            ("prune", "delete backups", "gannet-ledge --older-than 90"),
            ("hand-back", "remove all we made and put every original in its place", "gannet-ledge"),
        ),
    },
    "People: who may do what": {
        **_of(
            "people",
            ("people", "list people and the invitations that wait", "gannet-ledge"),
            ("invite", "make a link that lets somebody in", "client@harbour.example --to gannet-ledge=look"),
            ("keys", "list keys for machines", ""),
            ("make-key", "make a key for a machine; it is shown this once", "site --library gannet-ledge"),
            ("rotate-key", "give a key a new secret; the former one goes on for a while", "3"),
            ("revoke-key", "revoke a key at once", "3"),
            ("audit", "show who did what, when and from where", "gannet-ledge"),
        ),
        **_of(
            "plans",
            (
                "allowance",
                "show or set what a library may have treated in a month",
                "gannet-ledge --megapixels 500",
            ),
            (
                "webhooks",
                "show or set whom a library tells what came to pass",
                "gannet-ledge --add https://example.org/plum",
            ),
        ),
        **_of("care", ("hook-secret", "make a secret with which a site signs its webhooks", "gannet-ledge")),
    },
    "Service": {
        **_of("care", ("doctor", "check the machine: all fine, or what to do", "")),
        **_of("happening", ("events", "show what happens, as it happens", "gannet-ledge")),
        **_of(
            "completing",
            ("completion", "print what makes a shell complete words for you", "bash"),
            ("manual", "print the manual page of this program, for man", ""),
        ),
    },
}


def with_more(index: Index, more: Index) -> Index:
    """An index with the commands of another, a job's after those that it has."""
    jobs = [*index, *(job for job in more if job not in index)]
    return {job: {**index.get(job, {}), **more.get(job, {})} for job in jobs}


def listed(index: Index, columns: int) -> str:
    """The commands for people, under their jobs, with no line longer than ``columns``."""
    from textwrap import wrap

    longest = max(len(name) for commands in index.values() for name in commands)
    lines: list[str] = []
    for job, commands in index.items():
        lines += ["", f"{job}"]
        for name, command in commands.items():
            first, *rest = wrap(command.summary, max(20, columns - longest - 4))
            lines.append(f"  {name:<{longest}}  {first}")
            lines += [" " * (longest + 4) + line for line in rest]
    return "\n".join(lines[1:])


def names(index: Index) -> Sequence[str]:
    """All commands."""
    return [name for commands in index.values() for name in commands]
