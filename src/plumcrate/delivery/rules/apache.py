"""Rules for Apache httpd: for a ``.htaccess`` file in the library's folder, or within its ``<Directory>``."""

from __future__ import annotations

from .ground import (
    ASKS_FOR_LESS,
    LEANER,
    Moved,
    RulesContext,
    accepts,
    checked,
    copy,
    endings,
    literal,
    media_type,
    picture,
)

_TEMPLATE = """\
# Light pictures for {name}: each browser gets the lightest form it accepts.
# Written by Plum Crate for the library at {folder}; write it anew after conversions.
# Put it into {root}.htaccess, below what is there already, or within
# <Directory "{folder}"> of the site's configuration. It needs mod_rewrite, mod_headers and mod_mime.
# It answers for pictures only, after the site's own rewrite rules.

{types}
RewriteEngine On
RewriteOptions InheritBefore
RewriteBase "{base}"

# What Plum Crate itself keeps in the folder is nobody's.
RewriteRule "(^|/)\\.plumcrate" - [R=404,L]

{sent}# A copy that was taken back while a page still names it: its file.
RewriteCond "%{{REQUEST_FILENAME}}" !-f
RewriteRule "^({picture}){copy}$" "$1" [B=?#%,L]

# A copy is served where it is accepted by name, not with q=0, never for a file that is not there, and never
# through a link.
{rules}
{moved}
<FilesMatch "\\.(?i:{endings})$">
    # Whatever stands between must know that the answer depends on Accept.
    Header merge Vary "{vary}"
    Header set Cache-Control "{lasting}"
</FilesMatch>
"""
_RULE = """\
{less}RewriteCond "%{{HTTP:Accept}}" "{accepts}" [NC]
RewriteCond "%{{REQUEST_FILENAME}}" -f
RewriteCond "%{{REQUEST_FILENAME}}" !-l
RewriteCond "%{{REQUEST_FILENAME}}{ending}" -f
RewriteCond "%{{REQUEST_FILENAME}}{ending}" !-l
RewriteRule "^({picture})$" "$1{ending}" [B=?#%,L]
"""
_LESS = f'RewriteCond "%{{HTTP:Save-Data}}" "{ASKS_FOR_LESS}" [NC]\n'


def written(ground: RulesContext) -> str:
    """For Apache httpd 2.4.26 or newer."""
    rules = "".join(
        _RULE.format(accepts=accepts(format), ending=f"{leaner}.{format}", picture=picture(), less=less)
        for leaner, less in ((LEANER, _LESS), ("", ""))
        if ground.save_data or not leaner
        for format in ground.copies
    )
    return _TEMPLATE.format(
        name=checked(ground.name, "the name"),
        folder=checked(ground.folder, "the folder"),
        root=ground.root,
        base=checked(ground.prefix, "the address"),
        types="\n".join(f"AddType {media_type(format)} .{format}" for format in ground.copies),
        picture=picture(),
        copy=copy(ground.copies),
        vary=ground.vary,
        rules=rules,
        endings="|".join(endings()),
        lasting=ground.lasting,
        sent=_sent(ground),
        moved=_moved(ground) + ground.left_out,
    )


def _sent(ground: RulesContext) -> str:
    lines = [_redirect(ground, moved) for moved in ground.sayable if moved.always]
    return "\n".join(["# Pictures that are answered with another.", *lines, "", ""]) if lines else ""


def _redirect(ground: RulesContext, moved: Moved) -> str:
    target = ground.address_of(moved.to).replace("%", "\\%")
    return f'RewriteRule "^{literal(moved.path)}$" "{target}" [R=302,NE,L]'


def _moved(ground: RulesContext) -> str:
    lines = []
    for moved in ground.sayable:
        if not moved.always:
            lines.append('RewriteCond "%{REQUEST_FILENAME}" !-f')
            lines.append(_redirect(ground, moved))
    return "\n".join(["\n# Files that made way for their conversion.", *lines, ""]) if lines else ""
