"""Rules for Caddy 2: a piece of the block that serves the library's address."""

from __future__ import annotations

from .ground import ASKS_FOR_LESS, LEANER, RulesContext, checked, copy, literal, media_type, picture

_TEMPLATE = """\
# Light pictures for {name}: each browser gets the lightest form it accepts.
# Written by Plum Crate for the library at {folder}; write it anew after conversions.
# Put it within the block that serves the library's address, beside what that block does already:
#
#	handle_path "{prefix}*" {{
#		root * "{folder}"
#		(here)
#		file_server
#	}}
#
# It answers for pictures only. It opens nothing that the block does not serve already.

# What Plum Crate itself keeps in the folder is nobody's.
@light_ours path_regexp "(^|/)\\.plumcrate"
error @light_ours 404
{moved}
# A copy that was taken back while a page still names it: its file.
@light_gone {{
	path_regexp light "^(/{picture}){copy}$"
	not file
}}
rewrite @light_gone {{re.light.1}}

# A copy is served where it is accepted by name, not with q=0, and never for a file that is not there.
@light_pictures {{
	path_regexp "^/{picture}$"
	file
}}
route @light_pictures {{
	# Whatever stands between must know that the answer depends on Accept.
	header +Vary "{vary}"
	header Cache-Control "{lasting}"
{rules}}}
"""
_RULE = """\
	@light_{name} {{
{less}		header_regexp Accept (?i)(^|,)\\s*{kind}\\s*(;|,|$)
		not header_regexp Accept (?i)(^|,)\\s*{kind}\\s*(;[^,;]*)*;\\s*q\\s*=\\s*0(\\.0*)?\\s*([;,]|$)
		file {{path}}{ending}
	}}
	route @light_{name} {{
		header Content-Type {kind}
		rewrite {{path}}{ending}
	}}
"""


def written(ground: RulesContext) -> str:
    """For Caddy 2.6 or newer."""
    rules = [
        _RULE.format(
            name=f"less_{format}" if leaner else format,
            kind=media_type(format),
            ending=f"{leaner}.{format}",
            less=f"\t\theader_regexp Save-Data (?i){ASKS_FOR_LESS}\n" if leaner else "",
        )
        for leaner in (LEANER, "")
        if ground.save_data or not leaner
        for format in ground.copies
    ]
    return _TEMPLATE.format(
        name=checked(ground.name, "the name"),
        folder=checked(ground.folder, "the folder", odd='"\\{}*'),
        prefix=checked(ground.prefix, "the address", odd=""),
        lasting=ground.lasting,
        picture=picture(),
        copy=copy(ground.copies),
        vary=ground.vary,
        rules="".join(rules),
        moved=_moved(ground) + ground.left_out,
    )


def _moved(ground: RulesContext) -> str:
    lines = []
    for index, moved in enumerate(ground.sayable):
        lines.append(f'@light_moved{index} {{\n\tpath_regexp "^/{literal(moved.path)}$"\n')
        lines.append("}\n" if moved.always else "\tnot file\n}\n")
        lines.append(f'redir @light_moved{index} "{ground.address_of(moved.to)}" 302\n')
    head = "\n# Files that made way for their conversion, or are answered with another.\n"
    return head + "".join(lines) if lines else ""
