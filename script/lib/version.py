"""The version of a build, by PEP 440: of a release its number, of what came after it that number with how
many changes since and which was the last. The build reads it here; nothing else does.

A release is a tag such as v0.2.0; where the tags did not come along, the newest heading of the change log.
"""

import re
import subprocess
from pathlib import Path

ROOT = Path(__file__).resolve().parents[2]
_RELEASE = re.compile(r"^## \[(\d+\.\d+\.\d+)\]", re.M)


def version() -> str:
    released = _RELEASE.search((ROOT / "CHANGELOG.md").read_text())
    newest = released[1] if released else "0.0.0"
    described = _git("describe", "--tags", "--long", "--dirty", "--abbrev=10", "--match", "v[0-9]*")
    if found := re.fullmatch(r"v([\d.]+)-(\d+)-(g[0-9a-f]+)(-dirty)?", described):
        number, since, commit, dirty = found.groups()
        if since == "0" and not dirty:
            return number
        return f"{number}.post{since}+{commit}" + (".dirty" if dirty else "")
    commit = _git("rev-parse", "--short=10", "HEAD")
    return f"{newest}.post0+g{commit}" if commit else newest


def _git(*words: str) -> str:
    try:
        done = subprocess.run(
            ["git", *words], cwd=ROOT, capture_output=True, text=True, timeout=30, check=False
        )
    except OSError:
        return ""
    return done.stdout.strip() if done.returncode == 0 else ""


if __name__ == "__main__":
    print(version())
