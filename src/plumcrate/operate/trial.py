"""trial: treats files right here, without any service, and writes what came of it to a folder.

Each file is decoded in a child of the sandbox, as in a library: what it may cost is bounded, and what it does
to its child is one line of the answer.
"""

from __future__ import annotations

import argparse
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from rich.console import RenderableType
from rich.text import Text

from plumcrate.cli.commands.common import CommandResult, Commands, WrongCommand, table
from plumcrate.cli.commands.libraries import COPIES_HELP, METADATA_HELP, formats, kinds
from plumcrate.cli.look import points, slat
from plumcrate.contract.common import CopyFormat, Level
from plumcrate.contract.recipes import MetadataKind
from plumcrate.words import saved, size

if TYPE_CHECKING:
    from plumcrate.imaging import Recipe, Treatment
    from plumcrate.sandbox.children import Sandbox


@dataclass(frozen=True, slots=True)
class _TrialResult:
    path: Path
    treatment: Treatment | None
    reason: str = ""


def add_commands(commands: Commands) -> None:
    trial = commands.add("trial")
    trial.add_argument("files", nargs="+", type=Path, metavar="FILE")
    trial.add_argument("--level", choices=[str(level) for level in Level], default="everyday")
    trial.add_argument("--out", type=Path, required=True, metavar="DIR", help="where the results are written")
    trial.add_argument(
        "--effort",
        choices=("quick", "normal", "thorough"),
        default="normal",
        help="how long to look for the smallest file",
    )
    trial.add_argument(
        "--metadata", type=kinds, default=[MetadataKind.RIGHTS], metavar="KINDS", help=METADATA_HELP
    )
    trial.add_argument(
        "--within", default="", metavar="WxH", help="make larger pictures fit into so many pixels; 0: any"
    )
    trial.add_argument("--offer", action="store_true", help="offer other formats for the file where smaller")
    trial.add_argument(
        "--copies", type=formats, default=list(CopyFormat), metavar="FORMATS", help=COPIES_HELP
    )
    trial.set_defaults(command=_trial)


def _trial(options: argparse.Namespace) -> CommandResult:
    imaging = _core()
    try:
        recipe = imaging.Recipe(
            level=imaging.Level(options.level),
            copies=frozenset(map(str, options.copies)),
            effort=imaging.Effort(options.effort),
            convert=imaging.EVERY_CONVERSION if options.offer else frozenset(),
            largest=_size(options.within),
            metadata=frozenset(imaging.Kind(kind) for kind in options.metadata),
        )
        options.out.mkdir(parents=True, exist_ok=True)
    except ValueError as error:
        raise WrongCommand(str(error)) from None
    except OSError as error:
        raise WrongCommand(f"{options.out} cannot be made: {error.strerror}") from None
    sandbox = _sandbox()
    try:
        results = [_treated(sandbox, path, recipe, options.out) for path in options.files]
    finally:
        sandbox.close()
    failed = any(result.treatment is None for result in results)
    return CommandResult(
        {"files": [_as_data(result) for result in results]}, _lines(results, options.out), int(failed)
    )


def _core() -> Any:
    from importlib.util import find_spec

    if not all(find_spec(name) for name in ("numpy", "numba", "PIL")):
        raise WrongCommand("trial needs the picture core: pip install 'plumcrate[imaging]'")
    from plumcrate import imaging

    return imaging


def _sandbox() -> Sandbox:
    """One child, with the limits that this machine's settings give a library's pictures."""
    from plumcrate.imaging import Limits
    from plumcrate.sandbox.children import Sandbox
    from plumcrate.sandbox.kernels import place_kernels
    from plumcrate.sandbox.pace import Urgency
    from plumcrate.settings import WrongSettings, load

    try:
        settings = load()
    except WrongSettings as error:
        raise WrongCommand(str(error)) from None
    place_kernels(settings.state_dir)
    return Sandbox(
        1,
        settings.child_memory_mb,
        settings.seconds_per_megapixel,
        limits=Limits(settings.most_pixels),
        urgency=Urgency.PERSON,
    )


def _size(text: str) -> tuple[int, int]:
    """Width and height of ``1600x1200``; 0 and 0 of nothing."""
    if not text:
        return 0, 0
    width, cross, height = text.lower().partition("x")
    if not (cross and width.isdigit() and height.isdigit()):
        raise ValueError(f"--within wants a width and a height such as 1600x1200, not {text}")
    return int(width), int(height)


def _treated(sandbox: Sandbox, path: Path, recipe: Recipe, out: Path) -> _TrialResult:
    from plumcrate.imaging import ImagingError
    from plumcrate.imaging.identification import identify
    from plumcrate.sandbox.children import SandboxError

    if out.resolve() == path.resolve().parent:
        return _TrialResult(path, None, "--out is the file's own folder; the result would take its place")
    try:
        data = path.read_bytes()
        treatment = sandbox.treat(data, recipe, identify(data).pixels / 1e6)
        for output in treatment.chosen:
            name = path.name if output.role == "file" else f"{path.name}.{output.format}"
            (out / name).write_bytes(output.data)
    except (ImagingError, SandboxError) as error:
        return _TrialResult(path, None, str(error))
    except OSError as error:
        return _TrialResult(path, None, error.strerror or str(error))
    return _TrialResult(path, treatment)


def _as_data(result: _TrialResult) -> dict[str, object]:
    if result.treatment is None:
        return {"path": str(result.path), "reason": result.reason}
    treatment = result.treatment
    outputs = [
        {
            "format": output.format,
            "role": output.role,
            "verdict": getattr(output, "verdict", "chosen"),
            "reason": getattr(output, "reason", ""),
            "size": output.size,
            "score": output.score,
            "worst": output.worst_place.score if output.worst_place else None,
            "how": output.how,
            "encodes": output.encodes,
            "tried": [{"how": each.how, "size": each.size, "score": each.score} for each in output.tried],
        }
        for output in treatment.outputs
    ]
    return {
        "path": str(result.path),
        "format": treatment.facts.format,
        "size": treatment.size,
        "outputs": outputs,
    }


_ROLES = {"copy": "copy", "conversion": "instead"}


def _lines(results: list[_TrialResult], out: Path) -> list[RenderableType]:
    rows: list[tuple[str | Text, ...]] = []
    for result in results:
        if result.treatment is None:
            rows.append((result.path.name, "", "", "", "", "", "", result.reason))
            continue
        treatment = result.treatment
        for output in treatment.outputs:
            refused = getattr(output, "reason", None)
            main = output.role == "file"
            rows.append(
                (
                    result.path.name if main else f"  {output.format} {_ROLES[output.role]}",
                    size(treatment.size) if main else "",
                    size(output.size) if output.size else "–",
                    saved(treatment.size, output.size) if output.size else "–",
                    points(output.score),
                    points(output.worst_place.score if output.worst_place else None),
                    slat(treatment.size, min(output.size, treatment.size), 16) if refused is None else "",
                    output.how if refused is None else refused,
                )
            )
    columns = ("file", "before", "after", "saved", "score", "worst", "", "how, or why not")
    return [
        table(columns, rows, right=("before", "after", "saved", "score", "worst")),
        f"What was chosen is in {out}; the files themselves are as they were.",
    ]
