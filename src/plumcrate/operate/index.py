"""The operator's commands by name: on the service's own machine, as its own user."""

from __future__ import annotations

from plumcrate.cli.index import Command, Index

_HERE = "plumcrate.operate.commands"

INDEX: Index = {
    "Service": {
        "start": Command(
            _HERE, "start the service here, with a worker and, where none is named, the records"
        ),
        "tables": Command(_HERE, "bring the tables up to date"),
        "administrator": Command(
            _HERE, "make an administrator of the service, or reset their password", "keeper@ledge.example"
        ),
        "check-machine": Command(_HERE, "check the machine before anything runs"),
        "settings": Command(_HERE, "show the settings in force, and where each comes from"),
        "save-state": Command(
            _HERE, "save records and backups together into a folder, beside the work", "/srv/saved"
        ),
        "bring-back": Command(_HERE, "bring a saved state back, into an empty installation", "/srv/saved"),
        "move-records": Command(
            _HERE,
            "move the records out of the private PostgreSQL into one of yours",
            "postgresql://plum@db.example/plumcrate",
        ),
    }
}
