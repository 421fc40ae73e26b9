"""What a recipe would make of the pictures that a page asks for: treated in memory, never written.

A picture is treated when the browser first asks for it, in the sandbox, from the original; a file that was
treated just so before is taken as it is. For what the page's markup would say, the picture's other files are
treated too. The page is visited until nothing new was treated.
"""

from __future__ import annotations

import hashlib
import threading
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from typing import Any
from urllib.parse import urljoin, urlsplit

import structlog
from sqlalchemy import select

from plumcrate.contract.delivery import Delivery, Markup, PageCopy, PageFile
from plumcrate.contract.recipes import FirstFile, RecipeSettings
from plumcrate.deciding.decision import key_of, variant_of, variants
from plumcrate.delivery.negotiation import choose
from plumcrate.imaging import Recipe
from plumcrate.imaging.errors import ImagingError
from plumcrate.imaging.formats import FORMATS
from plumcrate.imaging.outcome import Chosen
from plumcrate.keeping.keeper import Keeper
from plumcrate.markup.page import PageStream
from plumcrate.pages.tunnel import predicted_host
from plumcrate.previews.page_facts import MEDIA_TYPES
from plumcrate.records.database import Database
from plumcrate.records.queries.pages import page_files
from plumcrate.records.tables import File, Library, Picture
from plumcrate.runs.treating import source_of
from plumcrate.sandbox.children import Sandbox, SandboxError
from plumcrate.storage.errors import StorageError

from .mapping import Mapper

log = structlog.get_logger()

#: A place is given its own size when the file has so many times its width; less is no gain.
_WORTH_FITTING = 1.15
#: Bytes of headers with a picture, of this service behind a cache; of a status line and the empty one.
_HEAD, _STATUS = 690, 18


@dataclass(frozen=True, slots=True)
class PredictedForm:
    """One form of a file, as it would be."""

    media_type: str
    data: bytes
    own: bool

    @property
    def size(self) -> int:
        return len(self.data)


@dataclass(frozen=True, slots=True)
class PredictedFile:
    """What would become of a file: its forms, itself first; None where it is left as it is."""

    forms: tuple[PredictedForm, ...] | None


class Predictor:
    """Predicts one page of one library. ``needs``: what each picture's place needs, in pixels of the
    device, by the picture's number; empty where sizes stay as they are. ``heads``: how many bytes of headers
    each host sends with a picture, as far as that is known; ``plain_hosts``: those that do not negotiate."""

    def __init__(
        self,
        database: Database,
        keeper: Keeper,
        library: Library,
        sandbox: Sandbox,
        settings: RecipeSettings,
        mapper: Mapper,
        *,
        needs: Mapping[int, tuple[int, int]] | None = None,
        known: dict[Any, PredictedFile] | None = None,
        save: Callable[[bytes], str],
        heads: Mapping[str, int] | None = None,
        plain_hosts: frozenset[str] = frozenset(),
    ) -> None:
        self._database, self._keeper, self._library = database, keeper, library
        self._sandbox, self._mapper, self._settings = sandbox, mapper, settings
        self._ways = variants(settings, library.surveyed_at)
        self._needs = needs or {}
        self._made: dict[Any, PredictedFile] = known if known is not None else {}
        self._save, self._heads, self._plain = save, heads or {}, plain_hosts
        self._guard = threading.Lock()
        self._busy: dict[Any, threading.Lock] = {}
        self.fresh = 0  # how many were treated since this was set to 0
        self.notes: dict[str, None] = {}

    # -- what the browser asks -------------------------------------------------------------------

    def answer(self, question: dict[str, Any]) -> dict[str, Any] | None:
        """What :class:`~plumcrate.pages.process.Weigher` asks on a browser's behalf."""
        if question["ask"] == "markup":
            return self._markup(question)
        return self._picture(str(question["address"]), question.get("accept"))

    def _picture(self, address: str, accept: str | None) -> dict[str, Any] | None:
        with self._database.begin() as session:
            mapped = self._mapper.of(session, [address]).get(address)
        if mapped is None or mapped.library_id != self._library.id:
            return None
        made = self.made(mapped.file)
        if made.forms is None:
            return None
        if mapped.form == "file":
            plain = urlsplit(address).netloc in self._plain
            form = made.forms[0] if plain else choose(made.forms, accept)
        else:
            wanted = FORMATS[mapped.format or ""].media_type  # a copy's, or a conversion's own
            fitting = [form for form in made.forms if form.media_type == wanted]
            if not fitting:
                return None
            form = fitting[0]
        tag = hashlib.sha256(form.data).hexdigest()
        parts = urlsplit(address)
        headers = {"Content-Type": form.media_type, "ETag": f'"{tag[:32]}"', "Vary": "Accept"}
        # As long as that server's own headers, which say what is of no matter here.
        lines = headers | {
            "Access-Control-Allow-Origin": "*",
            "Content-Length": str(form.size),
            "X-As-Long": "",
        }
        bare = _STATUS + sum(len(name) + len(value) + 4 for name, value in lines.items())
        headers["X-As-Long"] = "-" * max(0, self._heads.get(parts.netloc, _HEAD) - bare)
        host = predicted_host(parts.scheme, parts.netloc)
        return {"status": 200, "headers": headers, "file": self._save(form.data), "host": host}

    def _markup(self, question: dict[str, Any]) -> dict[str, Any] | None:
        delivery = Delivery.model_validate(self._library.delivery)
        home = delivery.address
        if home is None:
            return None
        markup = delivery.markup if _says_anything(delivery.markup) else Markup()
        markup = markup.model_copy(update={"rewrite": True})
        delivery = delivery.model_copy(update={"markup": markup})
        charset = str(question["type"]).lower().partition("charset=")[2].split(";")[0].strip(" \"'") or None
        page = (self._read(str(question["file"])),)
        stream = PageStream(urljoin(home, str(question["address"])), delivery, self.facts, charset)
        return {"file": self._save(b"".join(stream.over(page)))}

    #: Set by the job: reads what the browser left for us.
    _read: Callable[[str], bytes]

    def reads_with(self, read: Callable[[str], bytes]) -> None:
        self._read = read

    # -- what is on record, as it would be ---------------------------------------------------------

    def facts(self, paths: Sequence[str]) -> dict[str, PageFile]:
        """Files of the library for the markup, as they would be once treated."""
        with self._database.begin() as session:
            found = page_files(session, self._library.id, paths, MEDIA_TYPES)
            every = set(found) | {size.path for _, file in found.values() for size in file.sizes}
            files = {
                file.path: file
                for file in session.scalars(
                    select(File).where(File.library_id == self._library.id, File.path.in_(every))
                )
            }
        with ThreadPoolExecutor(2, thread_name_prefix="predicting") as pool:
            made = dict(zip(files, pool.map(self.made, files.values()), strict=True))

        def as_it_would_be(file: PageFile) -> PageFile:
            sizes = [as_it_would_be(size) for size in file.sizes]
            forms = made[file.path].forms if file.path in made else None
            if forms is None:
                return file.model_copy(update={"sizes": sizes})
            own, *others = forms
            copies = [
                PageCopy(
                    path=f"{file.path}.{form.media_type.rpartition('/')[2]}",
                    media_type=form.media_type,
                    bytes=form.size,
                )
                for form in others
                if form.size < own.size
            ]
            copies.sort(key=lambda copy: copy.bytes)
            return file.model_copy(update={"bytes": own.size, "copies": copies, "sizes": sizes})

        return {path: as_it_would_be(file) for path, (_, file) in found.items()}

    def _recipes(self, numbers: Sequence[int]) -> dict[int, Recipe | None]:
        with self._database.begin() as session:
            rows = session.execute(
                select(File.id, variant_of(self._ways))
                .join(Picture, Picture.id == File.picture_id)
                .where(File.id.in_(numbers))
            ).all()
        return {number: self._ways[way].recipe for number, way in rows}

    # -- treating in memory ------------------------------------------------------------------------

    def _key(self, file: File, recipe: Recipe) -> tuple[Any, ...]:
        return file.id, tuple(sorted((name, str(value)) for name, value in recipe.as_dict().items()))

    def made(self, file: File) -> PredictedFile:
        """What would become of a file; treated now unless it was before."""
        recipe = self._recipes([file.id]).get(file.id)
        if recipe is None:
            return PredictedFile(None)
        recipe = self._fitted(file, recipe)
        key = self._key(file, recipe)
        with self._guard:
            busy = self._busy.setdefault(key, threading.Lock())
        with busy:
            if key not in self._made:
                self._made[key] = self._treated(file, recipe)
                with self._guard:
                    self.fresh += 1
        return self._made[key]

    def _fitted(self, file: File, recipe: Recipe) -> Recipe:
        need = self._needs.get(file.picture_id)
        if need is None or file.width < need[0] * _WORTH_FITTING:
            return recipe
        return replace(recipe, largest=need)

    def _treated(self, file: File, recipe: Recipe) -> PredictedFile:
        try:
            current = self._keeper.store.read(file.path)
            there = self._as_it_stands(file, recipe, current)
            if there is not None:
                return there
            source = source_of(self._keeper, file, current)
            if source is None:
                self.notes.setdefault(f"{file.path} has no backup to start from, and stays as it is")
                return PredictedFile(None)
            treatment = self._sandbox.treat(source, recipe, file.width * file.height / 1e6)
        except (StorageError, ImagingError, SandboxError) as error:
            if isinstance(error, SandboxError) and error.code == "stopped":
                raise
            self.notes.setdefault(f"{file.path} stays as it is: {error}")
            return PredictedFile(None)
        main = treatment.main
        own = main.data if isinstance(main, Chosen) else source
        forms = [PredictedForm(FORMATS[file.format or ""].media_type, own, own=True)]
        forms += [
            PredictedForm(FORMATS[output.format].media_type, output.data, own=False)
            for output in treatment.chosen
            if output.role == "copy"
        ]
        conversion = next((output for output in treatment.chosen if output.role == "conversion"), None)
        if conversion is not None and self._settings.conversions.first_file is FirstFile.REMOVE:
            forms = [PredictedForm(FORMATS[conversion.format].media_type, conversion.data, own=True)]
        return PredictedFile(tuple(forms))

    def _as_it_stands(self, file: File, recipe: Recipe, current: bytes) -> PredictedFile | None:
        """What stands there already, where the file was treated just so."""
        if file.recipe != key_of(recipe) or file.sha256 is None:
            return None
        if hashlib.sha256(current).digest() != file.sha256:
            return None
        forms = [PredictedForm(FORMATS[file.format or ""].media_type, current, own=True)]
        for row in file.copies:
            try:
                data = self._keeper.store.read(row.path)
            except StorageError:
                return None
            if hashlib.sha256(data).digest() != row.sha256:
                return None
            forms.append(PredictedForm(FORMATS[row.format].media_type, data, own=False))
        return PredictedFile(tuple(forms))


def _says_anything(markup: Markup) -> bool:
    return markup.elements or markup.sizes or markup.dimensions or markup.backgrounds or markup.lazy
