"""Rules for Apache httpd: for a ``.htaccess`` file in the library's folder, or within its ``<Directory>``."""

from __future__ import annotations

from .ground import Ground, accepts, checked, endings, media_type

_TEMPLATE = """\
# Light pictures for {name}: each browser gets the lightest form it accepts.
# Written by Plum Crate for the library at {folder}; write it anew after conversions.
# Put it into {root}.htaccess, or within <Directory "{folder}"> of the site's configuration.
# It needs mod_rewrite, mod_headers and mod_mime.

{types}
RewriteEngine On
RewriteBase "{prefix}"

# Nothing hidden or staged is ever served.
RewriteRule "(^|/)\\.(?!well-known/)" - [R=404,L]

# A copy is served where it is accepted by name, not with q=0, and never for a file that is not there.
{rules}
{moved}
<FilesMatch "\\.(?i:{endings})$">
    # Whatever stands between must know that the answer depends on Accept.
    Header merge Vary Accept
    Header set Cache-Control "{lasting}"
</FilesMatch>
"""
_RULE = """\
RewriteCond "%{{HTTP:Accept}}" "{accepts}" [NC]
RewriteCond "%{{REQUEST_FILENAME}}" -f
RewriteCond "%{{REQUEST_FILENAME}}.{format}" -f
RewriteRule "^(.+\\.(?i:{endings}))$" "$1.{format}" [B=?#%,L]
"""


def written(ground: Ground) -> str:
    """For Apache httpd 2.4.26 or newer."""
    known = "|".join(endings())
    rules = "".join(
        _RULE.format(accepts=accepts(format), format=format, endings=known) for format in ground.copies
    )
    return _TEMPLATE.format(
        name=checked(ground.name, "the name"),
        folder=checked(ground.folder, "the folder"),
        root=checked(ground.root, "the folder"),
        prefix=checked(ground.prefix, "the address"),
        types="\n".join(f"AddType {media_type(format)} .{format}" for format in ground.copies),
        rules=rules, endings=known, lasting=ground.lasting, moved=_moved(ground),
    )  # fmt: skip


def _moved(ground: Ground) -> str:
    if not ground.moved:
        return ""
    lines = ["\n# Files that made way for their conversion."]
    for moved in ground.moved:
        pattern = "".join(sign if sign.isalnum() or sign in "/_-" else f"\\{sign}" for sign in moved.path)
        target = ground.address_of(moved.to).replace("%", "\\%")
        lines.append('RewriteCond "%{REQUEST_FILENAME}" !-f')
        lines.append(f'RewriteRule "^{_plain(pattern)}$" "{_plain(target)}" [R=302,NE,L]')
    return "\n".join(lines) + "\n"


def _plain(text: str) -> str:
    return checked(text, "the path", odd='"\n\r\t\0')
