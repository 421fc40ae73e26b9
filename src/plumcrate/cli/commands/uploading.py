"""upload: one file or many, in the place of others where that is meant, or only tried."""

from __future__ import annotations

import argparse
from collections.abc import Iterator
from pathlib import Path

from rich.console import RenderableType
from rich.text import Text

from plumcrate.cli.look import CLAY, QUIET, points
from plumcrate.client import ClientError, ProblemError
from plumcrate.contract.automation import NewFiles, Uploaded
from plumcrate.contract.recipes import UploadTrial
from plumcrate.words import saved, size

from .common import CommandResult, Commands, WrongCommand, client, table


def add_commands(commands: Commands) -> None:
    upload = commands.add("upload")
    upload.add_argument("library")
    upload.add_argument("files", type=Path, nargs="+", metavar="FILE")
    upload.add_argument("--as", dest="path", help="of one file: its path in the library; by default its name")
    upload.add_argument("--into", metavar="FOLDER", help="the folder of the library they come into")
    upload.add_argument("--treat", choices=[str(mode) for mode in NewFiles], default="at-once")
    upload.add_argument(
        "--replace",
        action="store_true",
        help="put each in the place of the file that has its name; what stood there is backed up",
    )
    upload.add_argument(
        "--try",
        dest="only_try",
        action="store_true",
        help="say what would become of each; nothing is written",
    )
    upload.set_defaults(command=_upload)


def _upload(options: argparse.Namespace) -> CommandResult:
    files = list(_named(options))
    for _, file in files:
        try:
            file.open("rb").close()
        except OSError as error:
            raise WrongCommand(f"{file}: {error.strerror}") from None
    if options.only_try:
        return _tried(options.library, files)
    answers: list[dict[str, object]] = []
    lines: list[RenderableType] = []
    failed = 0
    with client() as service:
        for path, answer in service.pictures.upload_files(
            options.library,
            files,
            treat=NewFiles(options.treat),
            replaces="*" if options.replace else None,
        ):
            failed += not isinstance(answer, Uploaded) or answer.state == "failed"
            answers.append(_answer(path, answer))
            lines.append(_line(path, answer))
    if len(files) == 1 and not isinstance(answer, Uploaded):
        raise answer
    return CommandResult({"files": answers}, lines, int(failed > 0))


def _named(options: argparse.Namespace) -> Iterator[tuple[str, Path]]:
    """Each file with its path in the library. Raises WrongCommand."""
    if options.path and len(options.files) > 1:
        raise WrongCommand("--as names one file; of many, --into names their folder")
    for file in options.files:
        name = options.path or file.name
        yield (f"{options.into.strip('/')}/{name}" if options.into else name), file


def _answer(path: str, answer: Uploaded | ClientError | OSError) -> dict[str, object]:
    if isinstance(answer, Uploaded):
        return {"path": path, "uploaded": answer.model_dump(mode="json"), "problem": None}
    return {"path": path, "uploaded": None, "problem": _problem(answer)}


def _problem(error: ClientError | OSError) -> dict[str, object]:
    """As the service says it; of what did not come to it only the title is known."""
    if isinstance(error, ProblemError):
        return error.problem.model_dump(mode="json")
    return {"title": str(error)}


_SAID = {
    "light": "is served in light form; its copies follow",
    "done": "is treated",
    "waiting": "waits for its turn",
    "not-treated": "is in the library, not treated",
}


def _line(path: str, answer: Uploaded | ClientError | OSError) -> RenderableType:
    if not isinstance(answer, Uploaded):
        return Text(f"{path} was not uploaded: {answer}", CLAY)
    said = _SAID.get(answer.state) or f"could not be treated: {answer.reason}"
    weights = f"{size(answer.size_before)} → {size(answer.size_now)}"
    return f"{answer.path} {said}: {weights} ({saved(answer.size_before, answer.size_now)})."


def _tried(library: str, files: list[tuple[str, Path]]) -> CommandResult:
    answers: list[dict[str, object]] = []
    lines: list[RenderableType] = []
    with client() as service:
        for path, file in files:
            try:
                trial = service.pictures.try_upload(library, path, file.read_bytes())
            except (ProblemError, OSError) as error:
                if len(files) == 1:
                    raise
                answers.append({"path": path, "trial": None, "problem": _problem(error)})
                lines.append(Text(f"{path} would not be uploaded: {error}", CLAY))
                continue
            answers.append({"path": path, "trial": trial.model_dump(mode="json"), "problem": None})
            lines += _trial_lines(trial)
    failed = any(answer["problem"] for answer in answers)
    return CommandResult({"files": answers}, [*lines, Text("Nothing was written.", QUIET)], int(failed))


def _trial_lines(trial: UploadTrial) -> Iterator[RenderableType]:
    taken = "; a file has the name, so it takes --replace" if trial.taken else ""
    what = f"{trial.role}, {trial.format}, {trial.width} × {trial.height}, {size(trial.size)}"
    yield f"{trial.path}: {what}: {trial.because}{taken}"
    columns = ("output", "size", "saved", "score", "")
    rows = [
        (
            "the file itself" if output.role == "file" else f"{output.role}, {output.format}",
            size(output.size),
            saved(trial.size, output.size),
            points(output.score),
            output.how if output.verdict == "chosen" else output.reason,
        )
        for output in trial.outputs
    ]
    if rows:
        yield table(columns, rows, right=("size", "saved", "score"))
