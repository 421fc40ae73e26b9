"""recipe, plan, own: how pictures are treated, and what that would do."""

from __future__ import annotations

import argparse
import json
import sys
from pathlib import Path

from pydantic import ValidationError
from rich.text import Text

from plumcrate.cli.look import QUIET
from plumcrate.contract import Effect, OwnRequest, Recipe, RecipeSettings

from .common import Commands, add, client, console, print_json, table
from .pictures import find

_OWN = ("exact", "gallery", "everyday", "lean", "leave", "none")


def add_commands(commands: Commands[argparse.ArgumentParser]) -> None:
    recipe = add(commands, "recipe", "show a library's recipe, try another, or save it")
    recipe.add_argument("library")
    recipe.add_argument("--version", type=int, metavar="N", help="a former version")
    recipe.add_argument(
        "--from", dest="source", type=Path, metavar="FILE",
        help="settings as JSON; says what they would do, and saves nothing without --save",
    )  # fmt: skip
    recipe.add_argument(
        "--set", dest="changes", action="append", metavar="NAME=VALUE", default=[],
        help="change one setting, such as level=lean or conversions.gif_to_png=true",
    )  # fmt: skip
    recipe.add_argument("--save", action="store_true", help="save as a new version; treats nothing yet")
    recipe.set_defaults(command=_recipe)

    plan = add(commands, "plan", "say which rule applies to a picture and what would happen")
    plan.add_argument("library")
    plan.add_argument("picture", help="its path in the library, or its number")
    plan.set_defaults(command=_plan)

    own = add(commands, "own", "give one picture a level of its own, or leave it alone for ever")
    own.add_argument("library")
    own.add_argument("picture", help="its path in the library, or its number")
    own.add_argument("level", choices=_OWN, help="none: follow the recipe again")
    own.set_defaults(command=_own)


def _recipe(options: argparse.Namespace) -> int:
    with client() as service:
        if options.version is not None:
            found = [one for one in service.recipes(options.library) if one.version == options.version]
            if not found:
                console.print(
                    f"plumcrate: {options.library} has no version {options.version}", style="yellow"
                )
                return 2
            current = found[0]
        else:
            current = service.recipe(options.library)
        try:
            wanted = _changed(current.settings, options)
        except (OSError, ValueError) as error:
            console.print(f"plumcrate: {_plain(error)}", style="yellow")
            return 2
        if wanted == current.settings and not (options.source or options.changes or options.save):
            print_json(current) if options.json else _print_recipe(current)
            return 0
        effect = service.effect(options.library, wanted)
        if options.save:
            current = service.save_recipe(options.library, wanted)
    if options.json:
        print_json(current if options.save else effect)
        return 0
    _print_effect(effect)
    if options.save:
        console.print(f"Saved as version {current.version}. Next: plumcrate run {options.library}")
    else:
        console.print("Nothing was saved; add --save.", style=QUIET)
    return 0


def _changed(settings: RecipeSettings, options: argparse.Namespace) -> RecipeSettings:
    """Raises OSError, ValueError and ValidationError, which is one."""
    if options.source is not None:
        text = sys.stdin.read() if str(options.source) == "-" else options.source.read_text()
        settings = RecipeSettings.model_validate_json(text)
    values = settings.model_dump(mode="json")
    for change in options.changes:
        name, equals, text = change.partition("=")
        if not equals:
            raise ValueError(f"{change}: give NAME=VALUE")
        place = values
        *path, last = name.split(".")
        for part in path:
            if not isinstance(place.get(part), dict):
                raise ValueError(f"there is no setting {name}")
            place = place[part]
        if last not in place:
            raise ValueError(f"there is no setting {name}")
        try:
            place[last] = json.loads(text)
        except json.JSONDecodeError:
            place[last] = text.split(",") if isinstance(place[last], list) else text
    return RecipeSettings.model_validate(values)


def _plain(error: Exception) -> str:
    if isinstance(error, ValidationError):
        return "; ".join(
            f"{'.'.join(map(str, fault['loc']))}: {fault['msg']}".strip(": ") for fault in error.errors()
        )
    return str(error)


def _print_recipe(recipe: Recipe) -> None:
    settings = recipe.settings
    when = f"{recipe.created_at.astimezone():%Y-%m-%d %H:%M}"
    console.print(f"{recipe.library}, version {recipe.version}, saved by {recipe.by} on {when}", style="bold")
    plain = settings.model_dump(mode="json", exclude={"rules"})
    rows = [(name, _value(value)) for name, value in _flat(plain)]
    console.print(table(("setting", "value"), rows))
    console.print()
    if not settings.rules:
        console.print("No rules: the settings hold for every file.", style=QUIET)
        return
    rules = [
        (
            str(number),
            rule.name,
            _words(rule.when.model_dump(mode="json", exclude_none=True)),
            "leave alone" if rule.leave else _words(rule.how.model_dump(mode="json", exclude_none=True)),
        )
        for number, rule in enumerate(settings.rules, 1)
    ]
    console.print(table(("rule", "name", "files", "then"), rules, right=("rule",)))


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


def _print_effect(effect: Effect) -> None:
    console.print(
        f"Of {effect.files:,} files: {effect.new:,} would be treated for the first time, {effect.again:,} "
        f"made again from their backups, {effect.settled:,} stay as they are, "
        f"{effect.left_out:,} are left alone."
    )
    if effect.without_backup:
        console.print(
            f"{effect.without_backup:,} were changed before and have no backup: they stay as they are.",
            style="yellow",
        )
    for name, files in effect.by_rule.items():
        console.print(f"  the rule “{name}” decides about {files:,} files")


def _plan(options: argparse.Namespace) -> int:
    with client() as service:
        found = service.plan(find(service, options.library, options.picture))
    if options.json:
        print_json(found)
        return 0
    rows: list[tuple[str | Text, ...]] = [
        (
            one.path,
            one.verdict,
            str(one.level or "–"),
            ", ".join(kind for kind, wanted in (("WebP", one.webp), ("AVIF", one.avif)) if wanted) or "–",
            one.because,
        )
        for one in found
    ]
    console.print(table(("file", "would be", "level", "copies", "because"), rows))
    return 0


def _own(options: argparse.Namespace) -> int:
    request = OwnRequest.model_validate({"own": None if options.level == "none" else options.level})
    with client() as service:
        picture = service.set_own(find(service, options.library, options.picture), request)
    if options.json:
        print_json(picture)
        return 0
    said = {None: "follows the recipe", "leave": "is left alone for ever"}
    console.print(f"{picture.path} {said.get(picture.own, f'has its own level, {picture.own}')}.")
    return 0
