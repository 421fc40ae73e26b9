"""Rules for nginx."""

from __future__ import annotations

import string

from plumcrate.imaging.formats import FORMATS

from .ground import (
    ASKS_FOR_LESS,
    LEANER,
    Moved,
    RulesContext,
    accepts,
    checked,
    copy,
    literal,
    media_type,
    picture,
)

_TEMPLATE = """\
# Light pictures for {name}: each browser gets the lightest form it accepts.
# Written by Plum Crate for the library at {folder}; write it anew after conversions.

# -- Part 1, within http {{ }}: which copies a browser accepts. A type counts where it is named, not
# with q=0. Nothing is ever found at "/-" below a file.
{maps}
{moved}
# -- Part 2, within the location that serves these pictures now, or within server {{ }} where none of its own
# does. It answers for pictures only: the site's other files, its locations for folders below and its access
# rules stay as they are. Headers that the site adds to its pictures must be added here too.

# What Plum Crate itself keeps in the folder is nobody's.
location ~ "^{prefix}(?:.*/)?\\.plumcrate" {{
    return 404;
}}

# A copy; when it was taken back and a page still names it, its file.
location ~ "^{prefix}(?<light_copy_{word}>(?<light_file_{word}>{picture}){copy})$" {{
{common}
    try_files /$light_copy_{word} /$light_file_{word} =404;
}}

# A picture, in the lightest form.
location ~ "^{prefix}(?<light_path_{word}>{picture})$" {{
{sent}    # A copy never stands in for a file that is not there.
    if (!-f "{root}$light_path_{word}") {{
        {gone}
    }}
{common}
    try_files {tries} /$light_path_{word} =404;
}}
"""
_COMMON = """\
    root "{folder}";
    # A link could lead out of the library.
    disable_symlinks on "from={folder}";
    types {{
        {types}
    }}
    # Whatever stands between must know that the answer depends on Accept.
    add_header Vary "{vary}";
    add_header Cache-Control "{lasting}";
    expires off;\
"""

#: A name of more bytes does not fit the table that nginx makes of a map on every processor, so it is written
#: as an expression, which needs no table.
_HASHED = 40


def written(ground: RulesContext) -> str:
    """For the Debian packages' layout, or any other; nginx 1.18 or newer, without further modules."""
    word = _word(ground.prefix)
    maps, tries = [], []
    for format in ground.copies:
        variable = f"$light_{format}_{word}"
        maps.append(
            f'map $http_accept {variable} {{\n    default "/-";\n    "~*{accepts(format)}" ".{format}";\n}}'
        )
        tries.append(f"/$light_path_{word}{variable}")
    if ground.save_data:
        saving = f"$light_saving_{word}"
        maps.append(f'map $http_save_data {saving} {{\n    default "";\n    "~*{ASKS_FOR_LESS}" "less";\n}}')
        for place, format in enumerate(ground.copies):
            usual, less = f"$light_{format}_{word}", f"$light_less_{format}_{word}"
            ways = f'    default "/-";\n    "less.{format}" "{LEANER}.{format}";\n'
            maps.append(f'map "{saving}{usual}" {less} {{\n{ways}}}')
            tries.insert(place, f"/$light_path_{word}{less}")
    common = _COMMON.format(
        folder=_plain(ground.folder, "the folder"), types=_types(), lasting=ground.lasting, vary=ground.vary
    )
    moved = [one for one in ground.sayable if not one.always]
    sent = [one for one in ground.sayable if one.always]
    text = _TEMPLATE.format(
        name=checked(ground.name, "the name"),
        folder=ground.folder,
        root=ground.root,
        word=word,
        prefix=literal(checked(ground.prefix, "the address", odd="")),
        picture=picture(),
        copy=copy(ground.copies),
        common=common,
        tries=" ".join(tries),
        maps="\n".join(maps),
        moved=_map_of(ground, f"$light_moved_{word}", moved, _MADE_WAY)
        + _map_of(ground, f"$light_sent_{word}", sent, _ANSWERED)
        + ground.left_out,
        sent=_SENT.format(word=word) if sent else "",
        gone=f"error_page 418 = @light_moved_{word};\n        return 418;" if moved else "return 404;",
    )
    return text + (_PART_3.format(word=word) if moved else "")


_PART_3 = """
# -- Part 3, within the site's server {{ }}: files that made way for their conversion.
location @light_moved_{word} {{
    if ($light_moved_{word} = "") {{
        return 404;
    }}
    return 302 $light_moved_{word};
}}
"""


_SENT = """\
    if ($light_sent_{word} != "") {{
        return 302 $light_sent_{word};
    }}
"""
_MADE_WAY = "Where files went that made way for their conversion."
_ANSWERED = "Pictures that are answered with another."


def _word(prefix: str) -> str:
    """What tells the variables of one library from another's."""
    plain = set(string.ascii_letters + string.digits)
    return "".join(character if character in plain else "_" for character in prefix.strip("/")) or "top"


def _types() -> str:
    shown = [format for format in FORMATS.values() if format.treated and format.pixels]
    return "\n        ".join(
        f"{media_type(format.name)} {' '.join(ending[1:] for ending in format.endings)};" for format in shown
    )


def _map_of(ground: RulesContext, variable: str, files: list[Moved], what: str) -> str:
    lines = []
    for moved in files:
        path = ground.prefix + moved.path
        short = len(path.encode()) <= _HASHED and not any(character in '"\\~' for character in path)
        key = path if short else f"~^{literal(path)}$"
        lines.append(f'    "{key}" "{ground.address_of(moved.to)}";')
    if not lines:
        return ""
    return f'\n# {what}\nmap $uri {variable} {{\n    default "";\n' + "\n".join(lines) + "\n}\n"


def _plain(text: str, what: str) -> str:
    # nginx has no way to write a dollar sign within a string that may hold variables.
    return checked(text, what, odd='$"\\')
