"""sizes, size, ladder, cuts, touch, watermarks, watermark: pictures made for their place, mended and
watermarked."""

from __future__ import annotations

import argparse
import json
from pathlib import Path
from typing import Any

from pydantic import ValidationError
from rich.console import RenderableType
from rich.text import Text

from plumcrate.cli.look import QUIET
from plumcrate.client import Client
from plumcrate.contract.sizes import (
    Cuts,
    Focus,
    LadderRequest,
    NamedSize,
    RemoveUnused,
    SizeEffect,
    SizeSettings,
    UnusedFiles,
)
from plumcrate.contract.touches import (
    TouchedPicture,
    TouchedView,
    Touches,
    TouchesFor,
    WatermarkRule,
    WatermarkSettings,
)
from plumcrate.words import size as weight

from .common import CommandResult, Commands, WrongCommand, change_settings, client, shown, table
from .pictures import find


def add_commands(commands: Commands) -> None:
    sizes = commands.add("sizes", rows=NamedSize)
    sizes.add_argument("library")
    sizes.add_argument("--unused", action="store_true", help="only tell what nobody asked for")
    sizes.add_argument("--days", type=int, default=30, metavar="N", help="within so many days (30)")
    sizes.add_argument(
        "--remove-unused", action="store_true", help="let the unused files go: the next run removes them"
    )
    sizes.add_argument("--bring-back", action="store_true", help="the next run makes again what was removed")
    sizes.add_argument("--size", metavar="NAME", help="remove or bring back files of this size only")
    sizes.set_defaults(command=_sizes)

    size = commands.add("size")
    size.add_argument("library")
    size.add_argument("name", help="small letters, digits and hyphens")
    size.add_argument(
        "--set",
        dest="changes",
        action="append",
        metavar="NAME=VALUE",
        default=[],
        help="one setting, such as width=520, way=fill, anchor=top, densities=1,2 or when.folder=2026",
    )
    size.add_argument("--save", action="store_true", help="save it; the next run makes what it asks for")
    size.add_argument("--remove", action="store_true", help="remove it; the next run removes its files")
    size.set_defaults(command=_size)

    ladder = commands.add("ladder")
    ladder.add_argument("library")
    ladder.add_argument("--least", type=int, default=320, metavar="PIXELS")
    ladder.add_argument("--most", type=int, default=1920, metavar="PIXELS")
    ladder.add_argument("--step", type=int, default=25, metavar="KB", help="from one width to the next")
    ladder.add_argument("--save", metavar="NAME", help="as a size of that name")
    ladder.set_defaults(command=_ladder)

    cuts = commands.add("cuts")
    cuts.add_argument("library")
    cuts.add_argument("picture", help="its path in the library, or its number")
    cuts.add_argument("--focus", metavar="X,Y", help="in parts of width and height, such as 0.3,0.6")
    cuts.add_argument("--found", action="store_true", help="let the focal point be found again")
    cuts.set_defaults(command=_cuts)

    touch = commands.add("touch")
    touch.add_argument("library")
    touch.add_argument("pictures", nargs="+", help="paths in the library, or numbers")
    touch.add_argument(
        "--add",
        dest="steps",
        action="append",
        metavar="STEP",
        default=[],
        help="a step behind the others: its kind and settings, such as contrast:amount=12, turn:quarters=1, "
        "cover:points=[[0.5,0.4]],radius=0.03",
    )
    touch.add_argument("--drop", type=int, action="append", metavar="N", default=[], help="take step N back")
    touch.add_argument("--clear", action="store_true", help="take all steps back")
    touch.add_argument("--look", type=Path, metavar="FILE", help="write a WebP of it there; saves nothing")
    touch.set_defaults(command=_touch)

    watermarks = commands.add("watermarks", rows=WatermarkRule)
    watermarks.add_argument("library")
    watermarks.set_defaults(command=_watermarks)

    watermark = commands.add("watermark")
    watermark.add_argument("library")
    watermark.add_argument("name", help="small letters, digits and hyphens")
    watermark.add_argument(
        "--set",
        dest="changes",
        action="append",
        metavar="NAME=VALUE",
        default=[],
        help="one setting, such as words=Gannet Ledge, place=top-left, width=0.15, opacity=0.5 or sizes=card",
    )
    watermark.add_argument("--picture", type=Path, metavar="FILE", help="a PNG or WebP with transparency")
    watermark.add_argument(
        "--remove", action="store_true", help="remove it; the next run brings back the rest"
    )
    watermark.set_defaults(command=_watermark)


# -- sizes -------------------------------------------------------------------------------------


def _sizes(options: argparse.Namespace) -> CommandResult:
    with client() as service:
        if options.bring_back:
            return _back(service.sizes.bring_back(options.library, options.size), options.library)
        if options.remove_unused:
            request = RemoveUnused(days=options.days, size=options.size)
            return _gone(service.sizes.remove_unused(options.library, request), options.library)
        if options.unused:
            return _unused(service, options.library, options.days)
        sizes = service.sizes.all(options.library)
    if not sizes:
        said = f"No sizes yet. Define one: plumcrate size {options.library} card --set width=520 --save"
        return CommandResult(sizes, [Text(said, QUIET)])
    rows = [
        (
            one.name,
            _described(one.settings),
            f"{one.files:,}",
            weight(one.bytes),
            weight(one.bytes_lightest),
            f"{one.waiting:,}",
            one.settings.pattern,
        )
        for one in sizes
    ]
    columns = ("size", "what", "files", "bytes", "as fetched", "waiting", "names")
    return CommandResult(sizes, [table(columns, rows, right=("files", "bytes", "as fetched", "waiting"))])


def _unused(service: Client, library: str, days: int) -> CommandResult:
    found = service.sizes.unused(library, days)
    if found.since is None:
        said = "Nothing was counted yet: count visits, or weigh pages, and ask again."
        return CommandResult(found, [Text(said, QUIET)])
    rows = [
        (
            one.name,
            f"{one.files:,}",
            weight(one.bytes),
            f"{one.young:,}",
            f"{one.asked_for:,}",
            f"{one.removed_unused:,}",
        )
        for one in found.sizes
    ]
    columns = ("size", "not asked for", "bytes", "of these new", "asked for", "removed")
    notes = [
        f"Within {days} days; counted since {found.since:%Y-%m-%d}.",
        f"Let them go, those apart that are new: plumcrate sizes {library} --remove-unused --days {days}",
    ]
    return CommandResult(
        found, [table(columns, rows, right=columns[1:]), *(Text(one, QUIET) for one in notes)]
    )


def _gone(gone: UnusedFiles, library: str) -> CommandResult:
    if not gone.files:
        return CommandResult(gone, ["Nothing was removed: every file was asked for, or is too new to tell."])
    said = f"{gone.files:,} files, {weight(gone.bytes)}, will be removed by the next run: "
    return CommandResult(gone, [said + f"plumcrate run {library}"])


def _back(back: UnusedFiles, library: str) -> CommandResult:
    if not back.files:
        return CommandResult(back, ["Nothing had been removed."])
    said = f"{back.files:,} files will be made again by the next run: plumcrate run {library}"
    return CommandResult(back, [said])


def _described(settings: SizeSettings) -> str:
    if settings.widths:
        return f"widths {', '.join(map(str, settings.widths))}"
    box = f"{settings.width or 'any'} × {settings.height or 'any'}"
    words = [f"{settings.way} {box}"]
    if settings.way == "fill":
        words.append(f"around {settings.anchor}")
    if settings.densities != [1.0]:
        words.append("at " + ", ".join(f"{one:g}×" for one in settings.densities))
    words += ["grey"] if settings.grey else []
    words += [settings.format] if settings.format else []
    words += [str(settings.level)] if settings.level else []
    return ", ".join(words)


def _size(options: argparse.Namespace) -> CommandResult:
    with client() as service:
        known = {one.name: one for one in service.sizes.all(options.library)}
        current = known.get(options.name)
        if options.remove:
            effect = service.sizes.effect(options.library, options.name, None)
            service.sizes.remove(options.library, options.name)
            said = f"{options.name} is removed. Next: plumcrate run {options.library}"
            return CommandResult(effect, [*_effect(effect), said])
        if not (options.changes or options.save) and current is not None:
            return CommandResult(current, [_settings_table(current.settings.model_dump(mode="json"))])
        settings = _size_settings(current, options.changes)
        effect = service.sizes.effect(options.library, options.name, settings)
        if not options.save:
            return CommandResult(effect, [*_effect(effect), Text("Nothing was saved; add --save.", QUIET)])
        saved = service.sizes.save(options.library, options.name, settings)
    return CommandResult(saved, [*_effect(effect), f"Saved. Next: plumcrate run {options.library}"])


def _size_settings(current: NamedSize | None, changes: list[str]) -> SizeSettings:
    """Raises WrongCommand."""
    values = (current.settings if current is not None else SizeSettings(width=1)).model_dump(mode="json")
    if current is None:
        values["width"] = 0
    return SizeSettings.model_validate(_changed(values, changes))


def _changed(values: dict[str, Any], changes: list[str]) -> dict[str, Any]:
    try:
        change_settings(values, changes)
    except ValueError as error:
        raise WrongCommand(str(error)) from None
    for place, name in ((values, "copies"), (values, "sizes"), (values["when"], "formats")):
        if isinstance(place.get(name), str):  # lists that may also be null
            place[name] = [part for part in place[name].split(",") if part]
    return values


def _settings_table(values: dict[str, Any], above: str = "") -> RenderableType:
    return table(("setting", "value"), _rows(values, above))


def _rows(values: dict[str, Any], above: str = "") -> list[tuple[str, str]]:
    rows: list[tuple[str, str]] = []
    for name, value in values.items():
        rows += _rows(value, f"{above}{name}.") if isinstance(value, dict) else [(above + name, shown(value))]
    return rows


def _effect(effect: SizeEffect) -> list[RenderableType]:
    about = f", about {weight(effect.bytes)}" if effect.bytes is not None else ""
    lines: list[RenderableType] = [
        f"The next run would make {effect.make:,} files{about}, make {effect.remake:,} again, remove "
        f"{effect.remove:,} and leave {effect.stay:,} as they are."
    ]
    if effect.too_small:
        lines.append(
            f"{effect.too_small:,} pictures are no larger than the size, so nothing is made of them."
        )
    if effect.of_the_site:
        lines.append(f"{effect.of_the_site:,} the site makes itself; they are treated, not made twice.")
    if effect.taken:
        named = ", ".join(effect.taken_paths)
        lines.append(Text(f"{effect.taken:,} names belong to other files, such as {named}.", "yellow"))
    return lines


def _ladder(options: argparse.Namespace) -> CommandResult:
    request = LadderRequest(least=options.least, most=options.most, step=options.step * 1000)
    with client() as service:
        found = service.sizes.ladder(options.library, request)
        if options.save:
            service.sizes.save(options.library, options.save, SizeSettings(widths=found.widths))
    rows = [(f"{width:,}", weight(size)) for width, size in zip(found.widths, found.bytes, strict=True)]
    said = f"Measured on {found.files:,} JPEGs of this library, as they were treated."
    lines: list[RenderableType] = [
        table(("width", "weighs about"), rows, right=("width", "weighs about")),
        Text(said, QUIET),
    ]
    more = [f"Saved as {options.save}. Next: plumcrate run {options.library}"] if options.save else []
    return CommandResult(found, [*lines, *more])


def _cuts(options: argparse.Namespace) -> CommandResult:
    with client() as service:
        picture = find(service, options.library, options.picture)
        if options.found:
            cuts = service.pictures.set_focus(picture, None)
        elif options.focus:
            cuts = service.pictures.set_focus(picture, _point(options.focus))
        else:
            cuts = service.pictures.cuts(picture)
    return CommandResult(cuts, _cut_lines(cuts))


def _point(text: str) -> Focus:
    try:
        x, y = (float(part) for part in text.split(","))
    except ValueError:
        raise WrongCommand(f"{text}: give two parts, such as 0.3,0.6") from None
    return Focus(x=x, y=y)


def _cut_lines(cuts: Cuts) -> list[RenderableType]:
    how = "set by hand" if cuts.by_hand else "found in the picture"
    rows = [
        (
            one.name,
            one.slot,
            f"{one.width} × {one.height}",
            f"{one.left:.0%} to {one.right:.0%}",
            f"{one.top:.0%} to {one.bottom:.0%}",
        )
        for one in cuts.cuts
    ]
    said = f"Focal point {cuts.x:.2f}, {cuts.y:.2f}, {how}."
    return [said, table(("size", "slot", "pixels", "across", "down"), rows)] if rows else [said]


# -- touch-ups ---------------------------------------------------------------------------------


def _touch(options: argparse.Namespace) -> CommandResult:
    added = [_step(text) for text in options.steps]
    with client() as service:
        numbers = [find(service, options.library, one) for one in options.pictures]
        if len(numbers) > 1:
            if options.drop or options.clear or options.look or not added:
                raise WrongCommand("for several pictures, only --add is possible")
            wanted = TouchesFor.model_validate({"pictures": numbers, "steps": added})
            service.touches.save_several(options.library, wanted)
            said = (
                f"{len(numbers)} pictures have {len(added)} more steps. Next: plumcrate run {options.library}"
            )
            return CommandResult({"pictures": numbers}, [said])
        current = service.touches.get(numbers[0])
        if not (added or options.drop or options.clear or options.look):
            return CommandResult(current, _step_lines(current))
        steps = [] if options.clear else [step.model_dump() for step in current.steps]
        steps = [step for number, step in enumerate(steps, 1) if number not in options.drop] + added
        if options.look:
            wanted_view = TouchedView.model_validate(
                {"steps": steps, "whole": True, "width": 1200, "height": 1200}
            )
            options.look.write_bytes(service.touches.view(numbers[0], wanted_view))
            return CommandResult(
                {"written": str(options.look)}, [f"Written to {options.look}; nothing was saved."]
            )
        request = Touches.model_validate({"steps": steps, "original": current.original})
        saved = service.touches.save(numbers[0], request)
    return CommandResult(saved, [*_step_lines(saved), f"Saved. Next: plumcrate run {options.library}"])


def _step(text: str) -> dict[str, Any]:
    """A step as it is written on the command line. Raises WrongCommand."""
    kind, _, rest = text.partition(":")
    step: dict[str, Any] = {"kind": kind}
    for part in _parts(rest):
        name, equals, value = part.partition("=")
        if not equals:
            raise WrongCommand(f"{text}: give NAME=VALUE behind the kind")
        try:
            step[name] = json.loads(value)
        except json.JSONDecodeError:
            step[name] = value
    try:
        Touches.model_validate({"steps": [step]})
    except ValidationError as error:
        raise WrongCommand(f"{text}: {error.errors()[0]['msg']}") from None
    return step


def _parts(text: str) -> list[str]:
    """Settings between commas that are not inside brackets."""
    parts, depth = [""], 0
    for character in text:
        depth += {"[": 1, "]": -1}.get(character, 0)
        if character == "," and not depth:
            parts.append("")
        else:
            parts[-1] += character
    return [part for part in parts if part]


def _step_lines(touched: TouchedPicture) -> list[RenderableType]:
    size = f"{touched.width:,} × {touched.height:,} pixels"
    if not touched.steps:
        return [f"No touch-ups; {size}."]
    rows = []
    for number, step in enumerate(touched.steps, 1):
        values = step.model_dump(exclude={"kind"}, exclude_defaults=True)
        rows.append((str(number), step.kind, ", ".join(f"{k} {shown(v)}" for k, v in values.items())))
    who = f"{size}; by {touched.by}" if touched.by else size
    return [table(("step", "kind", "settings"), rows, right=("step",)), Text(who, QUIET)]


# -- watermarks -------------------------------------------------------------------------------------


def _watermarks(options: argparse.Namespace) -> CommandResult:
    with client() as service:
        watermarks = service.watermarks.all(options.library)
    if not watermarks:
        define = f"plumcrate watermark {options.library} name --set 'words=Gannet Ledge'"
        said = f"No watermarks. Define one: {define}"
        return CommandResult(watermarks, [Text(said, QUIET)])
    rows = [(one.name, _watermark_words(one), _on(one.settings)) for one in watermarks]
    return CommandResult(watermarks, [table(("watermark", "what", "on"), rows)])


def _watermark_words(watermark: WatermarkRule) -> str:
    settings = watermark.settings
    what = f"“{settings.words}”" if settings.words else f"a picture of {watermark.width} × {watermark.height}"
    what = what if settings.words or watermark.picture else "no picture yet"
    return f"{what}, {settings.place}, {settings.width:.0%} wide, {settings.opacity:.0%} opaque"


def _on(settings: WatermarkSettings) -> str:
    on = ["the site's own files"] if settings.originals else []
    on.append("all sizes" if settings.sizes is None else ", ".join(settings.sizes) or "no sizes")
    when = settings.when.model_dump(mode="json", exclude_none=True)
    on += [f"{name.replace('_', ' ')} {shown(value)}" for name, value in when.items()]
    return "; ".join(on)


def _watermark(options: argparse.Namespace) -> CommandResult:
    with client() as service:
        if options.remove:
            service.watermarks.remove(options.library, options.name)
            said = f"{options.name} is removed. Next: plumcrate run {options.library}"
            return CommandResult(None, [said])
        current = {one.name: one for one in service.watermarks.all(options.library)}.get(options.name)
        if current is not None and not (options.changes or options.picture):
            return CommandResult(current, [_settings_table(current.settings.model_dump(mode="json"))])
        values = (current.settings if current is not None else WatermarkSettings()).model_dump(mode="json")
        settings = WatermarkSettings.model_validate(_changed(values, options.changes))
        saved = service.watermarks.save(options.library, options.name, settings)
        if options.picture is not None:
            try:
                data = options.picture.read_bytes()
            except OSError as error:
                raise WrongCommand(f"{options.picture}: {error.strerror}") from None
            saved = service.watermarks.set_picture(options.library, options.name, data)
    return CommandResult(
        saved, [f"{saved.name}: {_watermark_words(saved)}. Next: plumcrate run {options.library}"]
    )
