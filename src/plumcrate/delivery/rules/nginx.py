"""Rules for nginx."""

from __future__ import annotations

from .ground import Ground, accepts, checked, media_type

_TEMPLATE = """\
# Light pictures for {name}: each browser gets the lightest form it accepts.
# Written by Plum Crate for the library at {folder}; write it anew after conversions.

# -- Part 1, within http {{ }}: which copies a browser accepts. A type counts where it is named, not
# with q=0. Nothing is ever found at "/-" below a file.
{room}{maps}
{moved}
# -- Part 2, within the site's server {{ }}.
location ^~ {prefix} {{
    alias {root};
    # A copy never stands in for a file that is not there.
    if (!-f $request_filename) {{
        return 404;
    }}
    # Nothing hidden or staged is ever served.
    location ~ "/\\." {{
        return 404;
    }}
    include mime.types;
    types {{
        {types}
    }}
    # Whatever stands between must know that the answer depends on Accept.
    add_header Vary Accept;
    add_header Cache-Control "{lasting}";
    try_files {tries} $uri =404;
}}
"""

#: A map of long names needs it; it must stand before the first map of the whole server.
_ROOM = "map_hash_bucket_size 512;\n"


def written(ground: Ground) -> str:
    """For the Debian packages' layout, or any other; nginx 1.18 or newer, without further modules."""
    name = checked(ground.name, "the name")
    prefix = _quoted(ground.prefix, "the address")
    root = _quoted(ground.root, "the folder")
    word = (
        "".join(sign if sign.isascii() and sign.isalnum() else "_" for sign in ground.prefix.strip("/"))
        or "top"
    )
    maps, tries = [], []
    for format in ground.copies:
        variable = f"$light_{format}_{word}"
        maps.append(
            f'map $http_accept {variable} {{\n    default "/-";\n    "~*{accepts(format)}" ".{format}";\n}}'
        )
        tries.append(f"$uri{variable}")
    text = _TEMPLATE.format(
        name=name, folder=checked(ground.folder, "the folder"), maps="\n".join(maps), prefix=prefix,
        root=root,
        types="\n        ".join(f"{media_type(format)} {format};" for format in ground.copies),
        room=_ROOM if ground.moved else "",
        lasting=ground.lasting, tries=" ".join(tries), moved=_moved(ground, f"$light_moved_{word}"),
    )  # fmt: skip
    if not ground.moved:
        return text
    gone = f"@light_moved_{word}"
    text = text.replace(
        "        return 404;\n    }\n    # Nothing",
        f"        error_page 418 = {gone};\n        return 418;\n    }}\n    # Nothing",
    )
    return text + (
        f"# Files that made way for their conversion.\nlocation {gone} {{\n"
        f'    if ($light_moved_{word} = "") {{\n        return 404;\n    }}\n'
        f"    return 302 $light_moved_{word};\n}}\n"
    )


def _moved(ground: Ground, variable: str) -> str:
    if not ground.moved:
        return ""
    lines = [
        f"    {_quoted(ground.prefix + moved.path, 'path')} {_quoted(ground.address_of(moved.to), 'path')};"
        for moved in ground.moved
    ]
    return (
        f"\n# Where files went that made way for their conversion.\n"
        f'map $uri {variable} {{\n    default "";\n' + "\n".join(lines) + "\n}\n"
    )


def _quoted(text: str, what: str) -> str:
    # nginx has no way to write a dollar sign within a string.
    return f'"{checked(text, what, odd=chr(36) + chr(34) + chr(92))}"'
