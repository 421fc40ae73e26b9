"""Every type of problem: its status, its title, what it means, and what to do. The service's pages and the
documentation come from here: ``python -m plumcrate.api.problem_types`` prints docs/problems.md."""

from __future__ import annotations

from base64 import b64encode
from dataclasses import dataclass
from hashlib import sha256
from html import escape

#: A type as it stands in answers, before its code; it is the same for every installation.
URN = "urn:plumcrate:problem:"
#: Where the service describes each to people.
PAGES = "/problems"


@dataclass(frozen=True, slots=True)
class ProblemType:
    """``title`` and what it ``means`` for people, and what to ``do``; ``status`` is that of HTTP."""

    status: int
    title: str
    means: str
    do: str


TYPES: dict[str, ProblemType] = {
    # -- the request itself
    "bad-address": ProblemType(
        400,
        "The address cannot be read",
        "The address of the request holds bytes that are no text, or too many of them.",
        "Encode it as UTF-8 with percent signs, and send it again.",
    ),
    "bad-body": ProblemType(
        400,
        "The body cannot be read",
        "The body ended early, or is not in the form that its headers say.",
        "Check how it is encoded, and send it again.",
    ),
    "other-host": ProblemType(
        400,
        "The host name is not served here",
        "The request names a host that the service was not told to answer under.",
        "Use the service's own address, or have whoever runs it add the name to PLUMCRATE_ALLOWED_HOSTS.",
    ),
    "not-possible-here": ProblemType(
        405,
        "This address does not do that",
        "The address is known, but not with this method.",
        "Use one of the methods in the header Allow.",
    ),
    "too-slow": ProblemType(
        408,
        "The request came too slowly",
        "Nothing of the body came for longer than the service waits. Nothing was kept of it.",
        "Send it again; send large files as resumable uploads.",
    ),
    "too-large": ProblemType(
        413,
        "The file is too large",
        "The body is larger than its address takes. Nothing was kept of it.",
        "Send less; the detail names the limit.",
    ),
    "wrong-media-type": ProblemType(
        415,
        "The body is of another kind",
        "A piece of an upload has a Content-Type of its own, and this is another.",
        "Send pieces as application/offset+octet-stream.",
    ),
    "digest-mismatch": ProblemType(
        400,
        "What came is not what was sent",
        "The body does not have the digest that its header says, so bytes were lost or changed.",
        "Send it again.",
    ),
    "invalid-request": ProblemType(
        422,
        "The request does not fit",
        "A value is missing, unknown or out of its range. Nothing was changed.",
        "Mend what `errors` lists, each with its place.",
    ),
    "not-found": ProblemType(
        404,
        "There is no such thing",
        "There is nothing at this address, or nothing that you may see.",
        "Check the address; a list of its kind says what there is.",
    ),
    # -- who asks
    "not-signed-in": ProblemType(
        401,
        "You are not signed in",
        "The request has no key or session, or one that has ended or was revoked.",
        "Sign in, or send a key as Authorization: Bearer.",
    ),
    "wrong-sign-in": ProblemType(
        401,
        "The address or the password is wrong",
        "Nobody has this address with this password. Which of the two is wrong is not said.",
        "Try again, or ask an administrator for a new link.",
    ),
    "second-factor": ProblemType(
        401,
        "The second factor is missing",
        "The password is right, and the account asks for a code as well.",
        "Send the password again with the code of the app, or with a recovery code.",
    ),
    "bad-signature": ProblemType(
        401,
        "The signature does not fit",
        "The message was not signed with the library's secret, or there is no such library.",
        "Compare the secret on both sides, and sign the very bytes that are sent.",
    ),
    "too-old": ProblemType(
        401,
        "The message is too old, or from the future",
        "Its timestamp is more than five minutes from the service's clock, so that it cannot be replayed.",
        "Set both clocks, and send it again.",
    ),
    "too-many-attempts": ProblemType(
        429,
        "Too many attempts to sign in",
        "Too many sign-ins failed from this address, or for this account.",
        "Wait as long as Retry-After says.",
    ),
    "not-allowed": ProblemType(
        403,
        "You may not do this",
        "Your role, or your key, does not have the right to it.",
        "Ask an administrator of the library for it.",
    ),
    "foreign-origin": ProblemType(
        403,
        "The request came from another site",
        "A page of another site asked in your name. Nothing was done.",
        "Open the console at its own address; scripts use a key.",
    ),
    "wrong-password": ProblemType(
        409,
        "The password is wrong",
        "What you want to change asks for your present password.",
        "Send the present one.",
    ),
    "wrong-code": ProblemType(
        409,
        "The code is wrong",
        "The code does not belong to the second factor, or its half minute is over.",
        "Send the one that the app shows now; check that its clock is right.",
    ),
    "second-factor-there": ProblemType(
        409,
        "The second factor is in another state",
        "There is a second factor already, or there is none yet.",
        "Look at the account, and do what fits.",
    ),
    "weak-password": ProblemType(
        422,
        "The password is too short",
        "A password has at least ten signs.",
        "Choose a longer one.",
    ),
    "no-invitation": ProblemType(
        404,
        "The link opens nothing any more",
        "The link was used, was taken back, or has expired.",
        "Ask for a new one.",
    ),
    "last-administrator": ProblemType(
        409,
        "Somebody has to administer the service",
        "This is the last administrator; without one nobody could let anybody in.",
        "Make somebody else an administrator first.",
    ),
    # -- two at once, and once only
    "changed-meanwhile": ProblemType(
        412,
        "Somebody else changed it meanwhile",
        "It is not what If-Match says any more. Nothing was saved. The answer says who and what.",
        "Look at both, and send what you want with the new ETag.",
    ),
    "precondition-required": ProblemType(
        428,
        "Say which version you changed",
        "Two people may change this at once, and one would undo what the other did.",
        "Send the ETag that you read as If-Match.",
    ),
    "request-under-way": ProblemType(
        409,
        "The same request is being answered",
        "A request with this Idempotency-Key is still at work.",
        "Wait as long as Retry-After says, and send it again: you get its answer.",
    ),
    "key-used": ProblemType(
        422,
        "The Idempotency-Key was used for something else",
        "Another request was sent with this key during the last day.",
        "Use a new key for each thing that you do.",
    ),
    "too-many": ProblemType(
        429,
        "You have too much under way",
        "One person's work may not take all the room.",
        "Stop some of it, or wait for its end.",
    ),
    # -- libraries and their folders
    "folder-missing": ProblemType(
        409,
        "The folder is not there",
        "The service sees no folder at this path.",
        "Check the path as the service's machine has it; mount what is not mounted.",
    ),
    "folder-unreadable": ProblemType(
        409,
        "The folder cannot be read",
        "The service's user may not look into it.",
        "Give that user the right to read it.",
    ),
    "folder-read-only": ProblemType(
        409,
        "The folder cannot be written",
        "The service's user may not write there, so no picture could be made lighter.",
        "Give that user the right to write, or mount it writable.",
    ),
    "site-root": ProblemType(
        409,
        "The folder is the site itself",
        "It holds a program, and not only pictures.",
        "Connect the folder below it that pictures are uploaded to, or several of them.",
    ),
    "library-overlaps": ProblemType(
        409,
        "The folder belongs to another library",
        "It lies in a library's folder, or holds one: a picture would be in two.",
        "Connect another folder, or disconnect the other library first.",
    ),
    "slug-taken": ProblemType(
        409,
        "The short name is taken",
        "Another library has this short name.",
        "Choose another.",
    ),
    "library-treated": ProblemType(
        409,
        "The library still holds what we made",
        "Pictures of it are treated; disconnected now, their originals would stay in the backup.",
        "Restore all its pictures first.",
    ),
    "library-busy": ProblemType(
        409,
        "The library is being worked on",
        "Something else was changing the library, and came first. Nothing was done.",
        "Look again, and try again.",
    ),
    "name-taken": ProblemType(
        409,
        "The name is taken",
        "Somebody else's file or thing has this name. It was left as it is.",
        "Choose another name. An upload takes the place of a file when it is sent with If-Match.",
    ),
    "not-a-picture": ProblemType(
        422,
        "The file is not a picture",
        "The upload is no picture that this library takes; the detail says why. It was not kept.",
        "Send another, or let the site take it without us.",
    ),
    "other-offset": ProblemType(
        409,
        "The upload is at another place",
        "The piece does not follow what has come so far.",
        "Go on at `offset`.",
    ),
    "no-version": ProblemType(
        404,
        "There is no such version of the file",
        "The picture has no file, no backup or no copy of that kind, or it is gone from the disk.",
        "Look at the picture's files.",
    ),
    "picture-replaced": ProblemType(
        409,
        "Another picture stands there now",
        "The touch-ups were made on a picture that another has replaced since. Nothing was changed.",
        "Look at the new one first, and decide again.",
    ),
    "not-looked-at": ProblemType(
        409,
        "The picture was not looked at yet",
        "Near duplicates are known only of pictures that were looked at.",
        "Look for near duplicates first.",
    ),
    "cannot-redirect": ProblemType(
        409,
        "The picture cannot be answered with the other",
        "They are the same one, or the other is gone, is redirected itself, or is of another kind.",
        "Choose another; the detail says why.",
    ),
    "cannot-touch": ProblemType(
        409,
        "The picture cannot be touched up",
        "It moves, or nothing would keep its original.",
        "Switch the library's backups on; animations stay as they are.",
    ),
    "cannot-show": ProblemType(
        409,
        "The picture cannot be shown",
        "No preview can be made of the file.",
        "Look at the file itself; the detail says what is wrong with it.",
    ),
    "not-a-watermark": ProblemType(
        422,
        "It cannot be a watermark",
        "The picture has no transparency, or no font here has its letters.",
        "Send a PNG or WebP with a transparent ground, or other words.",
    ),
    "unfit-pattern": ProblemType(
        422,
        "The pattern makes no names that can be used",
        "Files of a size would have no names, or those of another size.",
        "Write a pattern with {name} that no other size has.",
    ),
    "not-counted": ProblemType(
        409,
        "Nobody counted for so long",
        "Visits were not counted for as many days as were asked for, so that nothing is known to be unused.",
        "Ask for fewer days, or count visits and ask later.",
    ),
    "nothing-to-treat": ProblemType(
        409,
        "There is nothing to treat",
        "The page shows no picture of the library there.",
        "Weigh it again, or choose another.",
    ),
    # -- work
    "job-open": ProblemType(
        409,
        "A job of this kind is already under way",
        "A library has one job of each kind at a time; `number` says which.",
        "Follow that one, or stop it.",
    ),
    "cannot-stop": ProblemType(
        409,
        "It cannot be stopped any more",
        "What is to go was selected and is being deleted.",
        "Wait for its end.",
    ),
    "not-confirmed": ProblemType(
        409,
        "The confirmation is missing",
        "What is asked for cannot be undone.",
        "Send the library's short name as the confirmation.",
    ),
    "run-ended": ProblemType(
        409,
        "The run has ended",
        "A run that has ended is neither paused nor stopped.",
        "Start a new one.",
    ),
    "ended": ProblemType(
        409,
        "It has ended",
        "The job has ended already.",
        "Read its report, or start a new one.",
    ),
    # -- the site
    "no-address": ProblemType(
        409,
        "It is not known where the site serves the library",
        "Addresses of pictures cannot be told without it.",
        "Set the library's address.",
    ),
    "unfit-name": ProblemType(
        409,
        "A configuration cannot say this name",
        "A name holds signs that the server's configuration has no way to write.",
        "Rename the file or folder, or serve that library by the service.",
    ),
    "cannot-ask": ProblemType(
        409,
        "The site cannot be asked",
        "The site's address does not answer, or leads to where we may not ask.",
        "Check the library's address, and whether the service may reach it.",
    ),
    "no-webhook": ProblemType(
        409,
        "Nothing can be told",
        "The webhook was stopped, or has no secret to sign with.",
        "Make a secret, or send a message to try it: once that is taken, it is told again.",
    ),
    "too-many-webhooks": ProblemType(
        409,
        "A library has 20 webhooks at most",
        "There are as many already.",
        "Remove one that nobody needs first.",
    ),
    "counted-already": ProblemType(
        409,
        "The log was counted already",
        "This stretch of the access log is not the next one.",
        "Ask where the log stands, and send what follows.",
    ),
    # -- what is away
    "storage": ProblemType(
        503,
        "The library's files cannot be reached",
        "The disk or the store does not answer, is full, or is not mounted. Every picture is as it was.",
        "See to the disk; what waits goes on by itself.",
    ),
    "database": ProblemType(
        503,
        "The database does not answer",
        "PostgreSQL cannot be reached. Nothing was changed.",
        "Try again as soon as Retry-After says; whoever runs the service sees to PostgreSQL.",
    ),
    "busy": ProblemType(
        503,
        "The service has too much to do",
        "There was no room for the request. Nothing was changed.",
        "Try again as soon as Retry-After says.",
    ),
    "not-ready": ProblemType(
        503,
        "The service cannot do its work",
        "Only /readyz answers so: the detail says what is missing.",
        "Upgrade what is older, start a worker, or see to PostgreSQL.",
    ),
    "sealed": ProblemType(
        503,
        "What is kept sealed cannot be read",
        "The key in the state folder is not there, or is another than the one it was sealed with.",
        "Bring the state folder back, or set the passwords and secrets anew.",
    ),
    "internal": ProblemType(
        500,
        "Something went wrong inside the service",
        "It is a fault of ours. Nothing was changed by the request.",
        "Tell whoever runs the service the `instance`: the log says more under it.",
    ),
}


def page(code: str) -> str:
    """A type as a page for people. Raises KeyError for an unknown code."""
    kind = TYPES[code]
    return _document(
        kind.title,
        f"<h1>{escape(kind.title)}</h1>\n<p>{escape(kind.means)}</p>\n<h2>What to do</h2>\n"
        f"<p>{escape(kind.do)}</p>\n"
        f'<p><code>{URN}{code}</code>, answered with {kind.status}. <a href="{PAGES}">All problems</a></p>',
    )


def index() -> str:
    """All types as a page."""
    rows = "\n".join(
        f'<li><a href="{PAGES}/{code}">{escape(kind.title)}</a> <code>{code}</code>, {kind.status}</li>'
        for code, kind in TYPES.items()
    )
    return _document("Problems", f"<h1>Problems</h1>\n<ul>\n{rows}\n</ul>")


#: The console's colours, by day and by night.
_LOOK = """
:root { color-scheme: light dark; --ground: #f6f0e6; --ink: #2a1a2e; --quiet: #6a5a66; --plum: #6b2c5c }
@media (prefers-color-scheme: dark) {
  :root { --ground: #181019; --ink: #f2e8ee; --quiet: #b7a6b3; --plum: #c88ab6 }
}
body { margin: 3rem auto; max-width: 44rem; padding: 0 1.25rem; background: var(--ground); color: var(--ink);
  font: 1rem/1.6 system-ui, sans-serif }
h1 { font-size: 1.6rem; line-height: 1.25 } h2 { font-size: 1.1rem; margin-top: 2rem }
a { color: var(--plum) } code { font-size: .9em; color: var(--quiet) } li { margin: .35rem 0 }
"""
_STYLE = b64encode(sha256(_LOOK.encode()).digest()).decode()
#: What the pages may load: their own style and nothing else.
POLICY = f"default-src 'none'; img-src data:; style-src 'sha256-{_STYLE}'; frame-ancestors 'none'"


def _document(title: str, body: str) -> str:
    return (
        '<!doctype html>\n<html lang="en"><head><meta charset="utf-8">\n'
        f'<title>{escape(title)}: Plum Crate</title>\n<meta name="viewport" content="width=device-width">\n'
        f'<link rel="icon" href="data:,">\n<style>{_LOOK}</style></head>\n<body>\n{body}\n</body></html>\n'
    )


def documentation() -> str:
    """docs/problems.md."""
    lines = [
        "# Problems",
        "",
        f"Errors are problem details (RFC 9457), whose `type` is `{URN}` and one of these codes. The",
        f'answer\'s `Link` with `rel="help"` leads to the same words at the service: `{PAGES}/CODE`.',
        "This page is made by `python -m plumcrate.api.problem_types`.",
    ]
    for code, kind in TYPES.items():
        lines += ["", f"## `{code}`", "", f"{kind.title}: {kind.status}. {kind.means} *{kind.do}*"]
    return "\n".join(lines) + "\n"


if __name__ == "__main__":
    print(documentation(), end="")
