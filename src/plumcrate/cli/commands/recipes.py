"""recipe, plan, own: how pictures are treated, and what that would do."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

from pydantic import ValidationError
from rich.console import RenderableType
from rich.text import Text

from plumcrate.cli.look import QUIET
from plumcrate.client import Client
from plumcrate.contract.pictures import OverrideRequest
from plumcrate.contract.recipes import Effect, FilePlan, Recipe, RecipeSettings

from .common import CommandResult, Commands, WrongCommand, change_settings, client, table
from .pictures import find

_OWN = ("exact", "gallery", "everyday", "lean", "leave", "none")


def add_commands(commands: Commands) -> None:
    recipe = commands.add("recipe")
    recipe.add_argument("library")
    recipe.add_argument("--version", type=int, metavar="N", help="a former version")
    recipe.add_argument(
        "--from",
        dest="source",
        type=Path,
        metavar="FILE",
        help="settings as JSON; says what they would do, and saves nothing without --save",
    )
    recipe.add_argument(
        "--set",
        dest="changes",
        action="append",
        metavar="NAME=VALUE",
        default=[],
        help="change one setting, such as level=lean or conversions.gif_to_png=true",
    )
    recipe.add_argument("--save", action="store_true", help="save as a new version; treats nothing yet")
    recipe.set_defaults(command=_recipe)

    plan = commands.add("plan", rows=FilePlan)
    plan.add_argument("library")
    plan.add_argument("picture", help="its path in the library, or its number")
    plan.set_defaults(command=_plan)

    override = commands.add("override")
    override.add_argument("library")
    override.add_argument("picture", help="its path in the library, or its number")
    override.add_argument("level", choices=_OWN, help="none: follow the recipe again")
    override.set_defaults(command=_own)


def _recipe(options: argparse.Namespace) -> CommandResult:
    with client() as service:
        current = _version(service, options.library, options.version)
        try:
            wanted = _changed(current.settings, options)
        except (OSError, ValueError) as error:
            raise WrongCommand(_plain(error)) from None
        if wanted == current.settings and not (options.source or options.changes or options.save):
            return CommandResult(current, _recipe_lines(current))
        effect = service.recipes.effect(options.library, wanted)
        if not options.save:
            return CommandResult(
                effect, [*_effect_lines(effect), Text("Nothing was saved; add --save.", QUIET)]
            )
        based_on = current.version if options.version is None else None
        current = service.recipes.save(options.library, wanted, based_on=based_on)
    said = f"Saved as version {current.version}. Next: plumcrate run {options.library}"
    return CommandResult(current, [*_effect_lines(effect), said])


def _version(service: Client, library: str, version: int | None) -> Recipe:
    """The recipe in use, or a former version. Raises WrongCommand."""
    if version is None:
        return service.recipes.get(library)
    for recipe in service.recipes.page(library):
        if recipe.version == version:
            return recipe
    raise WrongCommand(f"{library} has no version {version}")


def _changed(settings: RecipeSettings, options: argparse.Namespace) -> RecipeSettings:
    """Raises OSError, ValueError and ValidationError, which is one."""
    if options.source is not None:
        text = sys.stdin.read() if str(options.source) == "-" else options.source.read_text()
        settings = RecipeSettings.model_validate_json(text)
    values = settings.model_dump(mode="json")
    change_settings(values, options.changes)
    return RecipeSettings.model_validate(values)


def _plain(error: Exception) -> str:
    if isinstance(error, ValidationError):
        return "; ".join(
            f"{'.'.join(map(str, fault['loc']))}: {fault['msg']}".strip(": ") for fault in error.errors()
        )
    return str(error)


def _recipe_lines(recipe: Recipe) -> list[RenderableType]:
    settings = recipe.settings
    when = f"{recipe.created_at.astimezone():%Y-%m-%d %H:%M}"
    plain = settings.model_dump(mode="json", exclude={"rules"})
    lines: list[RenderableType] = [
        Text(f"{recipe.library}, version {recipe.version}, saved by {recipe.by} on {when}", style="bold"),
        table(("setting", "value"), [(name, _value(value)) for name, value in _flat(plain)]),
        "",
    ]
    if not settings.rules:
        return [*lines, Text("No rules: the settings hold for every file.", QUIET)]
    rules = [
        (
            str(number),
            rule.name,
            _words(rule.when.model_dump(mode="json", exclude_none=True)),
            "leave alone" if rule.leave else _words(rule.how.model_dump(mode="json", exclude_none=True)),
        )
        for number, rule in enumerate(settings.rules, 1)
    ]
    return [*lines, table(("rule", "name", "files", "then"), rules, right=("rule",))]


def _flat(values: dict[str, object], above: str = "") -> list[tuple[str, object]]:
    out: list[tuple[str, object]] = []
    for name, value in values.items():
        if isinstance(value, dict):
            out += _flat(value, f"{above}{name}.")
        else:
            out.append((above + name, value))
    return out


def _value(value: object) -> str:
    if isinstance(value, list):
        return ", ".join(map(str, value)) or "none"
    if value is None or isinstance(value, bool):
        return {True: "yes", False: "no", None: "–"}[value]
    return str(value)


def _words(values: dict[str, object]) -> str:
    return ", ".join(f"{name.replace('_', ' ')} {_value(value)}" for name, value in values.items())


def _effect_lines(effect: Effect) -> list[RenderableType]:
    lines: list[RenderableType] = [
        f"Of {effect.files:,} files: {effect.new:,} would be treated for the first time, {effect.again:,} "
        f"made again from their backups, {effect.settled:,} stay as they are, "
        f"{effect.left_out:,} are left alone."
    ]
    if effect.without_backup:
        said = f"{effect.without_backup:,} were changed before and have no backup: they stay as they are."
        lines.append(Text(said, "yellow"))
    lines += [f"  the rule “{name}” decides about {files:,} files" for name, files in effect.by_rule.items()]
    return lines


def _plan(options: argparse.Namespace) -> CommandResult:
    with client() as service:
        plans = service.pictures.plan(find(service, options.library, options.picture))
    rows = [
        (
            each.path,
            each.verdict,
            str(each.level or "–"),
            ", ".join(each.copies) or "–",
            each.because,
        )
        for each in plans
    ]
    return CommandResult(plans, [table(("file", "would be", "level", "copies", "because"), rows)])


def _own(options: argparse.Namespace) -> CommandResult:
    request = OverrideRequest.model_validate({"override": None if options.level == "none" else options.level})
    with client() as service:
        picture = service.pictures.override(find(service, options.library, options.picture), request)
    said = {None: "follows the recipe", "leave": "is left alone for ever"}
    line = f"{picture.path} {said.get(picture.override, f'has its own level, {picture.override}')}."
    return CommandResult(picture, [line])
