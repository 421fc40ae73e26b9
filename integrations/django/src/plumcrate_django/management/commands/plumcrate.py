"""``manage.py plumcrate connect | status | map | sync``."""

from __future__ import annotations

import json
import os
from argparse import ArgumentParser
from pathlib import Path
from typing import Any

from django.conf import settings
from django.core.management.base import BaseCommand, CommandError

from plumcrate.client import Client, ClientError, ProblemError
from plumcrate.contract.delivery import Delivery
from plumcrate.contract.libraries import Library, LibraryChange, LibraryRequest
from plumcrate.contract.webhooks import EventType, WebhookSettings
from plumcrate.words import saved, size

from ...conf import SiteSettings, site
from ...mapping import mapped_renditions

#: What the site wants to hear of.
_HEARD = (EventType.FILES_CHANGED, EventType.DESCRIPTIONS_CHANGED)


class Command(BaseCommand):
    help = "Connects this site's media folder to a Plum Crate service, and says how it stands."

    def add_arguments(self, parser: ArgumentParser) -> None:
        jobs = parser.add_subparsers(dest="job", required=True)
        connect = jobs.add_parser("connect", help="connect the media folder, once")
        connect.add_argument(
            "address", help="where visitors fetch the media, such as https://site.example/media/"
        )
        connect.add_argument("--webhook", help="where this site takes messages: …/plumcrate/webhook/")
        jobs.add_parser("status", help="what is saved, and whether the site and the service hear each other")
        jobs.add_parser("map", help="tell which file was made of which")
        jobs.add_parser("sync", help="tell that, and look through the folder for what neither was told of")

    def handle(self, *args: Any, job: str, **options: Any) -> None:
        settings_of_site = site()
        # What changes a library needs a stronger key than the site's own.
        key = os.environ.get("PLUMCRATE_KEY") or settings_of_site.key
        try:
            with Client(settings_of_site.url, key, timeout=60.0) as client:
                {"connect": self.connect, "status": self.status, "map": self.map, "sync": self.sync}[job](
                    client, settings_of_site, options
                )
        except ClientError as error:
            raise CommandError(str(error)) from None

    def connect(self, client: Client, own: SiteSettings, options: dict[str, Any]) -> None:
        """Whatever of it stands already is left as it is."""
        try:
            library = client.libraries.get(own.library)
        except ProblemError as error:
            if error.status != 404:
                raise
            root = Path(settings.MEDIA_ROOT, own.folder).resolve()
            library = client.libraries.connect(
                LibraryRequest(
                    name=getattr(settings, "WAGTAIL_SITE_NAME", own.library), root=str(root), slug=own.library
                )
            )
            self.stdout.write(f"Connected {root} as {own.library}.")
        if not library.delivery.public:
            delivery = library.delivery.model_dump() | {"public": True, "address": options["address"]}
            client.libraries.change(own.library, LibraryChange(delivery=Delivery.model_validate(delivery)))
            self.stdout.write(f"Its pictures are served at {options['address']}.")
        if not own.hook_secret:
            hook = client.webhooks.make_incoming_secret(own.library)
            self.stdout.write(f'PLUMCRATE["hook_secret"] = "{hook.secret}"')
        if options["webhook"]:
            self._hear(client, own, options["webhook"])
        self.stdout.write("Put these secrets into the site's settings; they are shown this once.")

    def _hear(self, client: Client, own: SiteSettings, address: str) -> None:
        """Has the service tell this site at ``address``; a webhook that was made before is kept, and hears
        what it heard."""
        former = next((one for one in client.webhooks.all(own.library) if one.address == address), None)
        if former is None:
            told = WebhookSettings(address=address, events=list(_HEARD))
            secret: str | None = client.webhooks.add(own.library, told).secret
        else:
            told = WebhookSettings(address=address, events=sorted({*former.events, *_HEARD}))
            client.webhooks.set(own.library, former.id, told)
            secret = (
                None if own.webhook_secret else client.webhooks.make_secret(own.library, former.id).secret
            )
        if secret:
            self.stdout.write(f'PLUMCRATE["webhook_secret"] = "{secret}"')

    def status(self, client: Client, own: SiteSettings, options: dict[str, Any]) -> None:
        library = client.libraries.get(own.library)
        self._say(library)
        mapping = client.libraries.mapping(own.library)
        self.stdout.write(f"{mapping.renditions:,} renditions are mapped, {mapping.found:,} of them found.")
        faults = client.pages.faults(own.library)
        if faults.times:
            self.stdout.write(
                f"{faults.times:,} pages could not be rewritten; they left as the site wrote them."
            )
        for warning in library.warnings:
            self.stdout.write(self.style.WARNING(warning))

    def map(self, client: Client, own: SiteSettings, options: dict[str, Any]) -> None:
        said = [one.model_dump() for one in mapped_renditions()]
        lines = "".join(json.dumps(one) + "\n" for one in said)
        taken = client.libraries.put_mapping(own.library, lines.encode(), anew=True)
        self.stdout.write(
            f"{taken.taken:,} renditions were told, {taken.refused:,} refused; "
            f"{taken.found:,} stand there with their original."
        )
        for fault in taken.faults:
            self.stdout.write(self.style.WARNING(fault))

    def sync(self, client: Client, own: SiteSettings, options: dict[str, Any]) -> None:
        self.map(client, own, options)
        job = client.jobs.wait(client.jobs.survey(own.library).id)
        if job.survey is not None:
            self.stdout.write(
                f"{job.survey.pictures:,} pictures in {job.survey.files_seen:,} files: "
                f"{job.survey.files_new:,} new, {job.survey.files_changed:,} changed, "
                f"{job.survey.files_gone:,} gone."
            )
        self._say(client.libraries.get(own.library))

    def _say(self, library: Library) -> None:
        before, now, fetched = library.bytes_before, library.bytes_now, library.bytes_lightest
        self.stdout.write(
            f"{library.name}: {library.pictures:,} pictures, {library.files:,} files, "
            f"{library.files_new:,} not yet treated. {size(before)} before, {size(now)} now "
            f"({saved(before, now)}); browsers fetch {size(fetched)}."
        )
