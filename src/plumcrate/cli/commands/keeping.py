"""backups, orphans, rescue, reattach, prune, hand-back: what keeps a library safe."""

from __future__ import annotations

import argparse
from pathlib import Path

from rich.console import RenderableType
from rich.text import Text

from plumcrate.cli.look import LEAF, plain
from plumcrate.client import Client
from plumcrate.contract.care import Orphan, PutBackRequest, ReattachRequest
from plumcrate.contract.jobs import JobKind, JobState, ProofReport, PruneReport, PruneRequest
from plumcrate.contract.runs import RunKind, RunRequest
from plumcrate.words import size

from .common import CommandResult, Commands, WrongCommand, client, console, table
from .runs import follow_run


def add_commands(commands: Commands) -> None:
    backups = commands.add("backups")
    backups.add_argument("library")
    backups.set_defaults(command=_backups)

    orphans = commands.add("orphans", rows=Orphan)
    orphans.add_argument("library")
    orphans.add_argument("--after", metavar="CURSOR", help="go on where a page before this one ended")
    orphans.set_defaults(command=_orphans)

    rescue = commands.add("rescue")
    rescue.add_argument("library")
    rescue.add_argument("number", type=int, help="its number, as orphans lists it")
    rescue.add_argument("--as", dest="path", help="its path in the library; by default where it was")
    rescue.set_defaults(command=_rescue)

    reattach = commands.add("reattach")
    reattach.add_argument("library")
    _add_confirm(reattach)
    reattach.set_defaults(command=_reattach)

    prune = commands.add("prune")
    prune.add_argument("library")
    prune.add_argument("--older-than", type=int, metavar="DAYS", help="only those older than this")
    prune.add_argument(
        "--needed-too",
        action="store_true",
        help="also the only original of a treated file, which can then never be put back",
    )
    prune.add_argument(
        "--orphans-too", action="store_true", help="also those whose file was deleted or overwritten"
    )
    _add_confirm(prune)
    prune.set_defaults(command=_prune)

    hand_back = commands.add("hand-back")
    hand_back.add_argument("library")
    _add_confirm(hand_back)
    hand_back.add_argument("--overwrite", action="store_true", help="also files that somebody changed since")
    hand_back.add_argument(
        "--checksums",
        type=Path,
        metavar="FILE",
        help="write what sha256sum --check compares the originals with",
    )
    hand_back.set_defaults(command=_hand_back)


def _add_confirm(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--confirm", metavar="LIBRARY", help="the library's short name once more")


def _be_confirmed(command: str, options: argparse.Namespace) -> None:
    if options.confirm != options.library:
        raise WrongCommand(
            f"to be sure, say it once more: plumcrate {command} {options.library} --confirm {options.library}"
        )


def _backups(options: argparse.Namespace) -> CommandResult:
    with client() as service:
        backups = service.backups.get(options.library)
    free = f", {size(backups.bytes_free)} free there" if backups.bytes_free is not None else ""
    spare = backups.backups - backups.needed - backups.orphaned
    spare_bytes = backups.bytes - backups.bytes_needed - backups.bytes_orphaned
    return CommandResult(
        backups,
        [
            f"{backups.backups:,} backups, {size(backups.bytes)}, in {backups.folder}{free}.",
            f"{backups.needed:,} of them ({size(backups.bytes_needed)}) are the only original of a treated "
            f"file; {backups.orphaned:,} ({size(backups.bytes_orphaned)}) lost their file; "
            f"{spare:,} ({size(spare_bytes)}) are not needed.",
        ],
    )


def _orphans(options: argparse.Namespace) -> CommandResult:
    with client() as service:
        page = service.backups.orphans(options.library, after=options.after)
    if not page.rows:
        return CommandResult(page, ["No backup has lost its file."])
    rows = [(str(row.id), size(row.size), f"{row.created_at:%Y-%m-%d %H:%M}", row.path) for row in page.rows]
    columns = ("number", "size", "backed up", "where the file was")
    said = [f"{len(page.rows):,} of {page.total:,}. Put one back: plumcrate rescue LIBRARY NUMBER"]
    if page.cursor is not None:
        said.append(f"The next: plumcrate orphans {options.library} --after {page.cursor}")
    return CommandResult(page, [table(columns, rows, right=("number", "size")), *said])


def _rescue(options: argparse.Namespace) -> CommandResult:
    with client() as service:
        rescued = service.backups.rescue(options.library, options.number, PutBackRequest(path=options.path))
    said = f"{plain(rescued.path)} is in the library again, {size(rescued.size)}, as it first was."
    return CommandResult(rescued, [said])


def _reattach(options: argparse.Namespace) -> CommandResult:
    _be_confirmed("reattach", options)
    with client() as service:
        library = service.libraries.reattach(options.library, ReattachRequest(confirm=options.confirm))
    again = "The folder has its identity file again. " if library.identified else ""
    said = (
        f"{again}{library.closed:,} changes that could not be settled were given up; {library.gone:,} files "
        "count as gone. Their originals stay among the backups."
    )
    return CommandResult(library, [said])


def _prune(options: argparse.Namespace) -> CommandResult:
    _be_confirmed("prune", options)
    request = PruneRequest(
        older_than_days=options.older_than,
        needed_too=options.needed_too,
        orphans_too=options.orphans_too,
        confirm=options.confirm,
    )
    with client() as service:
        job = service.jobs.prune(options.library, request)
        with console.status(f"Deleting backups of {options.library} …"):
            job = service.jobs.wait(job.id)
    if job.state is not JobState.FINISHED:
        return CommandResult(job, [Text(f"The backups were not all deleted: {job.reason}", "yellow")], 1)
    return CommandResult(job, _prune_lines(job.pruning or PruneReport()))


def _prune_lines(done: PruneReport) -> list[RenderableType]:
    lines: list[RenderableType] = [f"Deleted {done.backups:,} backups, {size(done.bytes)}."]
    if done.needed:
        lines.append(Text(f"{done.needed:,} of them were the only original of a treated file.", "yellow"))
    if done.left:
        lines.append(
            f"{done.left:,} stay: needed by treated files (--needed-too), or of files that were deleted or "
            "overwritten (--orphans-too)."
        )
    return lines


def _hand_back(options: argparse.Namespace) -> CommandResult:
    _be_confirmed("hand-back", options)
    request = RunRequest(
        library=options.library, kind=RunKind.HAND_BACK, confirm=options.confirm, overwrite=options.overwrite
    )
    with client() as service:
        number = service.runs.start(request).id
        followed = follow_run(service, number, quiet=options.json)
        run, proof = service.runs.get(number), _proof_of(service, options.library, number)
        if options.checksums is not None:
            _write(options.checksums, service.runs.checksums(number))
    complete = proof is not None and proof.verdict == "complete"
    lines = [*followed.lines, Text(_said(proof), LEAF if complete else "yellow")]
    return CommandResult(run, lines, followed.code or int(not complete))


def _write(file: Path, data: bytes) -> None:
    try:
        file.write_bytes(data)
    except OSError as error:
        raise WrongCommand(
            f"{file} cannot be written: {error.strerror}. The library was handed back"
        ) from error


def _proof_of(service: Client, library: str, run_id: int) -> ProofReport | None:
    """The report of the proof of this very run."""
    for job in service.jobs.page(library, kind=JobKind.PROOF):
        if job.run_id == run_id and job.state is JobState.FINISHED:
            return job.proof
    return None


def _said(proof: ProofReport | None) -> str:
    if proof is None:
        return "The hand-back is not proved."
    return (
        f"{proof.originals_identical:,} originals are byte for byte what they were, "
        f"{proof.originals_differing:,} differ; {proof.copies_left:,} files of ours are left. "
        f"The hand-back is {proof.verdict}."
    )
