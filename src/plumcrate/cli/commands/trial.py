"""trial: treats files right here, without any service, and writes what came of it to a folder."""

from __future__ import annotations

import argparse
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from rich.text import Text

from plumcrate.cli.look import points, saved, size, slat
from plumcrate.contract import Level

from .common import Commands, add, console, print_json, table

if TYPE_CHECKING:
    from plumcrate.imaging import Treatment


@dataclass(frozen=True, slots=True)
class _Result:
    path: Path
    treatment: Treatment | None
    reason: str = ""


def add_commands(commands: Commands[argparse.ArgumentParser]) -> None:
    trial = add(
        commands, "trial", "treat files here, without the service; the files themselves stay as they are"
    )
    trial.add_argument("files", nargs="+", type=Path, metavar="FILE")
    trial.add_argument("--level", choices=[str(level) for level in Level], default="everyday")
    trial.add_argument("--out", type=Path, required=True, metavar="DIR", help="where the results are written")
    trial.add_argument(
        "--effort", choices=("quick", "normal", "thorough"), default="normal",
        help="how long to look for the smallest file",
    )  # fmt: skip
    trial.add_argument(
        "--metadata", default="all", metavar="KINDS",
        help="what stays: all, nothing, or some of rights,time,place,camera,rest",
    )  # fmt: skip
    trial.add_argument(
        "--within", default="", metavar="WxH", help="make larger pictures fit into so many pixels; 0: any"
    )
    trial.add_argument("--offer", action="store_true", help="offer other formats for the file where smaller")
    trial.add_argument("--no-webp", action="store_true", help="make no WebP copy")
    trial.add_argument("--no-avif", action="store_true", help="make no AVIF copy")
    trial.set_defaults(command=_trial)


def _trial(options: argparse.Namespace) -> int:
    try:
        from plumcrate import imaging
    except ImportError:
        imaging = None  # type: ignore[assignment]
    if imaging is None or not _can_treat():
        console.print(
            "plumcrate: trial needs the picture core: pip install 'plumcrate[imaging]'", style="yellow"
        )
        return 2
    try:
        recipe = imaging.Recipe(
            level=imaging.Level(options.level), webp=not options.no_webp, avif=not options.no_avif,
            effort=imaging.Effort(options.effort),
            convert=imaging.EVERY_CONVERSION if options.offer else frozenset(),
            largest=_size(options.within), metadata=_kinds(imaging, options.metadata),
        )  # fmt: skip
    except ValueError as error:
        console.print(f"plumcrate: {error}", style="yellow")
        return 2
    try:
        options.out.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        console.print(f"plumcrate: {options.out} cannot be made: {error.strerror}", style="yellow")
        return 2
    results = [_one(imaging, path, recipe, options.out) for path in options.files]
    if options.json:
        print_json({"files": [_as_data(result) for result in results]})
    else:
        _print(results, options.out)
    return 1 if any(result.treatment is None for result in results) else 0


def _size(text: str) -> tuple[int, int]:
    """Width and height of ``1600x1200``; 0 and 0 of nothing."""
    if not text:
        return 0, 0
    width, cross, height = text.lower().partition("x")
    if not (cross and width.isdigit() and height.isdigit()):
        raise ValueError(f"--within wants a width and a height such as 1600x1200, not {text}")
    return int(width), int(height)


def _kinds(imaging: Any, text: str) -> frozenset[Any]:
    if text in ("all", "nothing"):
        return frozenset(imaging.Kind) if text == "all" else frozenset()
    known = {str(kind) for kind in imaging.Kind}
    wanted = {part.strip() for part in text.split(",")}
    if not wanted <= known:
        raise ValueError(f"--metadata knows all, nothing, or some of {', '.join(sorted(known))}")
    return frozenset(imaging.Kind(name) for name in wanted)


def _can_treat() -> bool:
    from importlib.util import find_spec

    return all(find_spec(name) for name in ("numpy", "numba", "PIL"))


def _one(imaging: Any, path: Path, recipe: Any, out: Path) -> _Result:
    if out.resolve() == path.resolve().parent:
        return _Result(path, None, "--out is the file's own folder; the result would take its place")
    try:
        treatment = imaging.treat(path.read_bytes(), recipe)
        main = treatment.main
        if main.data is not None:
            (out / path.name).write_bytes(main.data)
        for other in (*treatment.copies, *treatment.conversions):
            if other.data is not None:
                (out / f"{path.name}.{other.format}").write_bytes(other.data)
    except imaging.ImagingError as error:
        return _Result(path, None, str(error))
    except OSError as error:
        return _Result(path, None, error.strerror or str(error))
    return _Result(path, treatment)


def _as_data(result: _Result) -> dict[str, object]:
    if result.treatment is None:
        return {"path": str(result.path), "reason": result.reason}
    treatment = result.treatment
    outputs = [
        {
            "format": output.format, "verdict": output.verdict, "reason": output.reason, "size": output.size,
            "score": output.score, "how": output.how, "encodes": output.encodes,
            "tried": [{"how": one.how, "size": one.size, "score": one.score} for one in output.tried],
        }
        for output in (treatment.main, *treatment.copies, *treatment.conversions)
    ]  # fmt: skip
    return {
        "path": str(result.path),
        "format": treatment.facts.format,
        "size": treatment.size,
        "outputs": outputs,
    }


def _print(results: list[_Result], out: Path) -> None:
    rows: list[tuple[str | Text, ...]] = []
    for result in results:
        if result.treatment is None:
            rows.append((result.path.name, "", "", "", "", "", result.reason))
            continue
        treatment = result.treatment
        others = [(copy, "copy") for copy in treatment.copies]
        others += [(offer, "instead") for offer in treatment.conversions]
        for index, (output, role) in enumerate([(treatment.main, ""), *others]):
            chosen = output.verdict == "chosen"
            rows.append(
                (
                    result.path.name if index == 0 else f"  {output.format} {role}",
                    size(treatment.size) if index == 0 else "",
                    size(output.size) if output.size else "–",
                    saved(treatment.size, output.size) if output.size else "–",
                    points(output.score),
                    slat(treatment.size, min(output.size, treatment.size), 16) if chosen else "",
                    output.how if chosen else output.reason,
                )
            )
    columns = ("file", "before", "after", "saved", "score", "", "how, or why not")
    console.print(table(columns, rows, right=("before", "after", "saved", "score")))
    console.print(f"What was chosen is in {out}; the files themselves are as they were.")
