"""Writes the beginnings of an endpoint, a page or a kind of long work into the project.

``new.py endpoint|page|job NAME``; the name in small letters. What it wrote is printed; the rest is for a
person.
"""

from __future__ import annotations

import re
import sys
from collections.abc import Callable
from pathlib import Path

ROOT = Path.cwd()
SOURCE = Path("src/plumcrate")


def main() -> int:
    if len(sys.argv) != 3 or sys.argv[1] not in WRITERS or not re.fullmatch(r"[a-z][a-z]{1,30}", sys.argv[2]):
        print(__doc__, file=sys.stderr)
        return 2
    WRITERS[sys.argv[1]](sys.argv[2])
    return 0


def endpoint(name: str) -> None:
    """``GET /libraries/{slug}/NAME``: its message, its router, its call, its place among the tests of
    rights."""
    noun = name.capitalize()
    create(
        SOURCE / "contract" / f"{name}.py",
        f'"""{noun} of a library."""\n\nfrom __future__ import annotations\n\nfrom '
        f".common import Answer\n\n\n"
        f'class {noun}(Answer):\n    """What is said of it."""\n\n    library: str\n',
    )
    create(
        SOURCE / "api/routers" / f"{name}.py",
        f'"""{noun} of a library."""\n\nfrom __future__ import annotations\n\n'
        "from plumcrate.api.needs import Looking\n"
        f"from plumcrate.contract.{name} import {noun}\n\n"
        "from .deps import Session, Slug, router_of, the_library\n\n"
        f'router = router_of("{name}")\n\n\n'
        f'@router.get("/libraries/{{slug}}/{name}", summary="{noun} of a library")\n'
        f"def {name}(slug: Slug, actor: Looking, session: Session) -> {noun}:\n"
        f"    return {noun}(library=the_library(session, slug).slug)\n",
    )
    change(
        SOURCE / "api/app.py",
        "    webhooks,\n    weighing,\n)\nfrom",
        f"    webhooks,\n    weighing,\n    {name},\n)\nfrom",
    )
    change(SOURCE / "api/app.py", ")\n#: Below it pictures", f"    {name},\n)\n#: Below it pictures")
    change(
        SOURCE / "client/calls/libraries.py",
        "\nfrom . import base\n",
        f"from plumcrate.contract.{name} import {noun}\n\nfrom . import base\n",
    )
    append(
        SOURCE / "client/calls/libraries.py",
        f"\n\ndef {name}(library: str) -> Call[{noun}]:\n    return "
        f'base.get(f"{{base.within(library)}}/{name}", {noun})\n',
    )
    change(
        Path("tests/api/test_separation.py"),
        '    "GET /libraries/{slug}/allowance": Entry(LOOK),\n',
        f'    "GET /libraries/{{slug}}/allowance": Entry(LOOK),\n    "GET '
        f'/libraries/{{slug}}/{name}": Entry(LOOK),\n',
    )


def page(name: str) -> None:
    """A page of a library in the console, under Look."""
    noun = name.capitalize()
    create(
        Path("console/src/pages") / f"{noun}Page.tsx",
        f'/** {noun} of a library. */\n\nimport type {{ Library }} from "../api/client";\n'
        'import { Card } from "../parts/ui";\n\n'
        f"export function {noun}Page({{ library }}: {{ library: Library }}) {{\n"
        f'  return <Card title="{noun}">{{library.name}}</Card>;\n}}\n',
    )
    change(
        Path("console/src/pages.tsx"),
        "\nexport interface Page {",
        f'const {noun}Page = lazy(() => import("./pages/{noun}Page").then((page) => '
        f"({{ default: page.{noun}Page }})));\n"
        "\nexport interface Page {",
    )
    change(
        Path("console/src/pages.tsx"),
        '  { path: "weights/:page"',
        f'  {{ path: "{name}", name: "{noun}", hint: "what it shows", shows: {noun}Page, under: "Look" }},\n'
        '  { path: "weights/:page"',
    )


def job(name: str) -> None:
    """A kind of long work: its report, what does it, its start."""
    noun = name.capitalize()
    contract = SOURCE / "contract/jobs.py"
    change(contract, '    REPORT = "report"\n', f'    REPORT = "report"\n    {name.upper()} = "{name}"\n')
    change(
        contract,
        "class Job(Answer):\n",
        f'class {noun}Report(Answer):\n    """How far it is."""\n\n    files: int = '
        f"0\n\n\nclass Job(Answer):\n",
    )
    change(
        contract,
        "    report: ReportMade | None = None\n",
        f"    report: ReportMade | None = None\n    {name}: {noun}Report | None = None\n",
    )
    create(
        SOURCE / "jobs" / f"{name}.py",
        f'"""{noun}: long work on a library."""\n\nfrom __future__ import annotations\n\n'
        f"from plumcrate.contract.jobs import {noun}Report\n"
        "from plumcrate.keeping.keeper import Keeper\n\n"
        "from .long_work import Follow\n\n\n"
        f"def do_{name}(keeper: Keeper, follow: Follow) -> {noun}Report:\n"
        '    """Raises StorageError, and Stopped."""\n'
        f"    report = {noun}Report()\n    follow.report(report)\n    return report\n",
    )
    kinds = SOURCE / "worker/job_kinds.py"
    change(
        kinds,
        "            JobKind.REPORT: self.report,\n",
        "            JobKind.REPORT: self.report,\n"
        f"            JobKind.{name.upper()}: lambda library, follow: "
        f"do_{name}(self._keeper(library), follow),\n",
    )
    change(
        kinds,
        "from plumcrate.jobs.reporting import make_report\n",
        f"from plumcrate.jobs.reporting import make_report\nfrom plumcrate.jobs.{name} import do_{name}\n",
    )
    change(
        SOURCE / "api/routers/jobs.py",
        '@router.get("/libraries/{slug}/jobs"',
        f'@router.post("/libraries/{{slug}}/{name}s", status_code=202, summary="Start a {name}")\n'
        f"def {name}(slug: Slug, actor: Treating, session: Session, queue: TheQueue) -> Job:\n"
        '    """Says what it does."""\n'
        f"    return _started(session, queue, slug, JobKind.{name.upper()}, None, actor.name)\n\n\n"
        '@router.get("/libraries/{slug}/jobs"',
    )
    append(
        SOURCE / "client/calls/jobs.py",
        f"\n\ndef {name}(library: str) -> Call[Job]:\n"
        f'    return base.post(f"{{base.within(library)}}/{name}s", Job)\n',
    )
    change(
        Path("tests/api/test_separation.py"),
        '    "GET /libraries/{slug}/allowance": Entry(LOOK),\n',
        '    "GET /libraries/{slug}/allowance": Entry(LOOK),\n'
        f'    "POST /libraries/{{slug}}/{name}s": Entry(TREAT),\n',
    )


WRITERS: dict[str, Callable[[str], None]] = {"endpoint": endpoint, "page": page, "job": job}


def create(path: Path, text: str) -> None:
    """A new file. One that is there is left as it is, and everything ends."""
    if (ROOT / path).exists():
        sys.exit(f"{path} is there already; nothing was written to it")
    (ROOT / path).write_text(text)
    print(f"new      {path}")


def change(path: Path, former: str, text: str) -> None:
    """Puts ``text`` where ``former`` stands, once."""
    content = (ROOT / path).read_text()
    if content.count(former) != 1:
        sys.exit(f"{path}: the place to write at was not found: {former.strip().splitlines()[0]}")
    (ROOT / path).write_text(content.replace(former, text))
    print(f"changed  {path}")


def append(path: Path, text: str) -> None:
    (ROOT / path).write_text((ROOT / path).read_text() + text)
    print(f"changed  {path}")


if __name__ == "__main__":
    sys.exit(main())
