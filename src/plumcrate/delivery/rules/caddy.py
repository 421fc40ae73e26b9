"""Rules for Caddy 2: a piece of the site's block in the Caddyfile."""

from __future__ import annotations

from .ground import Ground, checked, media_type

_TEMPLATE = """\
# Light pictures for {name}: each browser gets the lightest form it accepts.
# Written by Plum Crate for the library at {folder}; write it anew after conversions.
# Put it within the site's block of the Caddyfile.
handle_path "{prefix}*" {{
	root * "{folder}"
	route {{
		# Nothing hidden or staged is ever served.
		@hidden path_regexp (^|/)\\.
		error @hidden 404
{moved}		# A copy never stands in for a file that is not there.
		@gone not file
		error @gone 404
		# Whatever stands between must know that the answer depends on Accept.
		header +Vary Accept
		header Cache-Control "{lasting}"
{rules}		file_server
	}}
}}
"""
_RULE = """\
		@{format} {{
			header_regexp Accept (?i)(^|,)\\s*{kind}\\s*(;|,|$)
			not header_regexp Accept (?i)(^|,)\\s*{kind}\\s*(;[^,;]*)*;\\s*q\\s*=\\s*0(\\.0*)?\\s*([;,]|$)
			file {{path}}.{format}
		}}
		route @{format} {{
			rewrite {{path}}.{format}
			header Content-Type {kind}
			file_server
		}}
"""


def written(ground: Ground) -> str:
    """For Caddy 2.6 or newer."""
    return _TEMPLATE.format(
        name=checked(ground.name, "the name"),
        folder=_plain(ground.folder, "the folder"),
        prefix=_plain(ground.prefix, "the address"),
        lasting=ground.lasting,
        rules="".join(_RULE.format(format=format, kind=media_type(format)) for format in ground.copies),
        moved=_moved(ground),
    )


def _moved(ground: Ground) -> str:
    lines = []
    for index, moved in enumerate(ground.moved):
        lines.append(
            f'\t@moved{index} {{\n\t\tpath "/{_plain(moved.path, "the path")}"\n\t\t\tnot file\n\t\t}}\n'
        )
        lines.append(f'\tredir @moved{index} "{_plain(ground.address_of(moved.to), "the path")}" 302\n')
    return ("\t\t# Files that made way for their conversion.\n" + "".join(lines)) if lines else ""


def _plain(text: str, what: str) -> str:
    return checked(text, what, odd='"\\{}*')
