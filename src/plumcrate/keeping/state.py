"""The service's own folder, which holds the backups, known by its identity file.

A state volume that is not mounted must not be mistaken for an empty store: once the folder has its identity
file, nothing is read from or written to one that does not hold the identity file.
"""

from __future__ import annotations

import secrets
from pathlib import Path

from sqlalchemy import func, select
from sqlalchemy.dialects.postgresql import insert

from plumcrate.records.database import Database
from plumcrate.records.tables import Backup, Installation, Library
from plumcrate.storage.errors import NotThere, StorageError
from plumcrate.storage.local import identity_of, write_identity

_SAMPLE = 20
#: In the state folder while it is brought back from where it was saved: which records.
UNDER_WAY = "bring-back"


def half_brought(state_dir: Path) -> str | None:
    """What to say where a state was brought back only in part; None where it was not."""
    if not (state_dir / UNDER_WAY).exists():
        return None
    return (
        f"bringing back {state_dir} was cut short: run plumcrate bring-back again with the same folder; "
        "nothing is served or treated before it has ended"
    )


class StateFolder:
    """The folder ``path``, and what the records say that it must hold."""

    def __init__(self, database: Database, path: Path) -> None:
        self.path = path
        self.database = database
        self._identity: str | None = None  # known to be written

    def backups_of(self, slug: str) -> Path:
        """The backup store of one library."""
        return self.path / "backups" / slug

    def check(self) -> None:
        """Identifies the folder when it never was, else looks at its identity file. Raises NotThere."""
        if self._identity is None:
            self._identity = self._adopted()
        try:
            borne = identity_of(self.path)
        except OSError as error:
            raise NotThere(
                f"the state folder {self.path} is not there ({error.strerror}): mount it; "
                "nothing is changed without it"
            ) from None
        if borne != self._identity:
            said = (
                "holds another installation's identity file" if borne else "does not hold our identity file"
            )
            raise NotThere(
                f"the state folder {self.path} {said}: is its volume mounted? Nothing is changed without it"
            )

    def _adopted(self) -> str:
        """The identity file in the records; the folder is given it when the records do not say that it has
        it."""
        with self.database.begin() as session:
            fresh = insert(Installation).values(id=1, state_identity=secrets.token_hex(16))
            session.execute(fresh.on_conflict_do_nothing())
            row = session.scalars(select(Installation).with_for_update()).one()
            if row.identified_at is None:
                latest = session.execute(
                    select(Library.slug, Backup.sha256)
                    .join(Library, Library.id == Backup.library_id)
                    .where(Backup.pruned_at.is_(None))
                    .order_by(Backup.id.desc())
                    .limit(_SAMPLE)
                ).all()
                if latest and not any(self._holds(slug, sha) for slug, sha in latest):
                    raise NotThere(
                        f"the state folder {self.path} holds none of the backups on record: is its volume "
                        "mounted? Nothing is changed without it"
                    )
                self._write(row.state_identity)
                row.identified_at = func.now()
            return row.state_identity

    def _holds(self, slug: str, sha256: bytes) -> bool:
        digits = sha256.hex()
        return (self.backups_of(slug) / digits[:2] / digits).is_file()

    def _write(self, identity: str) -> None:
        try:
            self.path.mkdir(parents=True, exist_ok=True)
            write_identity(self.path, identity)
        except StorageError as error:
            if error.code == "other-identity":
                raise NotThere(
                    f"the state folder {self.path} belongs to another installation: give this one a folder "
                    "of its own with PLUMCRATE_STATE_DIR"
                ) from None
            raise NotThere(str(error)) from None
        except OSError as error:
            raise NotThere(f"the state folder {self.path} cannot be made ({error.strerror})") from None
