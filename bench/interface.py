"""The interface against its own description, with all checks: many more requests than the tests make."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import psycopg
from rich.console import Console
from rich.table import Table

from plumcrate.contract.libraries import LibraryRequest
from plumcrate.contract.people import KeyRequest

from .stand import stand


def main() -> None:
    count = sys.argv[1] if len(sys.argv) > 1 else "100"
    table = Table("who", "what came of it", title=f"The interface, {count} examples an operation")
    with stand(workers=0) as bench:
        root = bench.home / "library"
        root.mkdir()
        (root / "a.jpg").write_bytes(b"\xff\xd8\xff")
        bench.client.libraries.connect(LibraryRequest(name="Ledge", root=str(root)))
        # A key whose number is not guessed, or it would soon be revoked.
        with psycopg.connect(bench.database.url, autocommit=True) as connection:
            connection.execute("ALTER TABLE keys ALTER COLUMN id RESTART WITH 1000000000")
        secret = bench.client.keys.make(KeyRequest(name="far away", service=True)).secret
        for who, headers in (
            ("with a key", ["--header", f"Authorization: Bearer {secret}"]),
            ("without one", []),
        ):
            done = subprocess.run(
                [
                    str(Path(sys.executable).with_name("schemathesis")),
                    "run",
                    "--checks",
                    "all",
                    # That a time ever comes, or a rule says one thing only, no description can say.
                    "--exclude-checks",
                    "positive_data_acceptance",
                    "--max-examples",
                    count,
                    "--phases",
                    "examples,coverage,fuzzing",
                    "--no-color",
                    "--suppress-health-check",
                    "all",
                    "--exclude-path",
                    "/api/v1/events",
                    "--continue-on-failure",
                    *headers,
                    f"http://127.0.0.1:{bench.port}/api/v1/openapi.json",
                ],
                cwd=bench.home,
                capture_output=True,
                text=True,
                check=False,
            )
            lines = done.stdout.splitlines()
            said = [line.strip() for line in lines if "generated" in line or line.strip().startswith("❌ ST")]
            table.add_row(who, "; ".join(said) or lines[-1])
            if done.returncode:
                print(done.stdout[-8000:], file=sys.stderr)
    Console(width=120).print(table)


if __name__ == "__main__":
    main()
