"""The trust's small web site, standing in for a content-management system.

A handful of pages that use the library's pictures, an upload form and endpoint that stores in
year/month folders and derives sizes, and a webhook after each upload.
"""

from __future__ import annotations

import io
import json
import os
import re
import secrets
import unicodedata
from datetime import UTC, datetime
from functools import lru_cache
from html import escape
from pathlib import Path
from typing import Annotated

import httpx
import uvicorn
from fastapi import BackgroundTasks, FastAPI, Form, HTTPException, UploadFile
from fastapi.responses import FileResponse, HTMLResponse, JSONResponse, RedirectResponse, Response
from PIL import ExifTags, Image, ImageOps
from standardwebhooks import Webhook

from plumcrate.client import Client
from plumcrate.client.pages import AsgiPages, SitePages

from .world import SIZES, derive

_PAGES: dict[str, tuple[str, str, str]] = {
    "": ("Gannet Ledge Light", "A light on the ledge since 1867, kept by a small charity.", "headland"),
    "visit": ("Visit the tower", "The tower is open from April to October, wind permitting.", "tower"),
    "open-days": (
        "Open days",
        "Two open days a year, with tea, bunting and the great lens turning.",
        "open-day",
    ),
    "journal": ("The journal", "Pages from the keepers' logs, and what visitors saw.", "log"),
    "shop": ("Postcards and charts", "Cards of the ledge, and charts of its approaches.", "postcard"),
}
#: Not every machine's table of types has them.
_KINDS = {".avif": "image/avif", ".webp": "image/webp"}
_STYLE = (
    "body{font:17px/1.5 Georgia,serif;margin:0 auto;max-width:72rem;padding:0 1rem;color:#223}"
    "nav a{margin-right:1rem}img{max-width:100%;height:auto}"
    ".grid{display:grid;grid-template-columns:repeat(auto-fill,minmax(15rem,1fr));gap:1rem}"
)


def create_site(library: Path, hook: Path | None = None, pages: SitePages | None = None) -> FastAPI:
    """The site's application, over a library folder. ``hook`` says where uploads are told; ``pages``: who
    rewrites what leaves it."""
    app = FastAPI(title="Gannet Ledge Light Trust", docs_url=None, redoc_url=None, openapi_url=None)

    @app.get("/media/{path:path}")
    def media(path: str) -> Response:
        place = (library / path).resolve()
        if not place.is_relative_to(library.resolve()) or not place.is_file():
            raise HTTPException(404)
        return FileResponse(place, media_type=_KINDS.get(place.suffix.lower()))

    @app.get("/upload", response_class=HTMLResponse)
    def form() -> str:
        fields = '<input type="file" name="file" required> <button>Upload</button>'
        return _page("Upload", f'<form method="post" enctype="multipart/form-data">{fields}</form>')

    @app.post("/upload")
    async def upload(
        file: UploadFile, then: BackgroundTasks, answer: Annotated[str, Form()] = "page"
    ) -> Response:
        data = await file.read()
        try:
            path, *sizes = store(library, file.filename or "upload", data)
        except OSError as error:
            raise HTTPException(422, f"this is not a picture the site can take: {error}") from None
        shown = path.relative_to(library).as_posix()
        if hook:
            told = [one.relative_to(library).as_posix() for one in (path, *sizes)]
            then.add_task(_call, hook, told)
        if answer == "json":
            return JSONResponse({"path": shown, "bytes": len(data)}, 201)
        return RedirectResponse("/", 303)

    @app.get("/{page}", response_class=HTMLResponse)
    @app.get("/", response_class=HTMLResponse)
    def show(page: str = "") -> str:
        if page not in _PAGES:
            raise HTTPException(404)
        title, lead, subject = _PAGES[page]
        return _page(title, f"<p>{escape(lead)}</p>{_pictures(library, subject, page == '')}")

    if pages is not None:
        app.add_middleware(AsgiPages, pages=pages)
    return app


def store(library: Path, name: str, data: bytes) -> list[Path]:
    """Stores an upload under its year and month with a free, plain name, and derives its sizes.

    Returns the paths of all, the original first.

    Raises OSError when Pillow cannot read it.
    """
    image: Image.Image = ImageOps.exif_transpose(Image.open(io.BytesIO(data)))
    image.load()
    plain = unicodedata.normalize("NFKD", Path(name).stem).encode("ascii", "ignore").decode().lower()
    stem = re.sub(r"[^a-z0-9]+", "-", plain).strip("-") or "upload"
    suffix = Path(name).suffix.lower() or ".jpg"
    folder = library / f"{datetime.now(UTC):%Y/%m}"
    folder.mkdir(parents=True, exist_ok=True)
    path, number = folder / f"{stem}{suffix}", 1
    while path.exists():
        number += 1
        path = folder / f"{stem}-{number}{suffix}"
    path.write_bytes(data)
    return [path, *derive(path, image)]


def _call(hook: Path, paths: list[str]) -> None:
    """Tells of new files, signed by the Standard Webhooks scheme. ``hook`` holds the address and secret."""
    if not hook.exists():
        return
    facts = json.loads(hook.read_text())
    body = json.dumps({"type": "media.created", "data": {"paths": paths}})
    hook_id, now = f"msg_{secrets.token_hex(12)}", datetime.now(UTC)
    headers = {
        "webhook-id": hook_id,
        "webhook-timestamp": str(int(now.timestamp())),
        "webhook-signature": Webhook(facts["secret"]).sign(hook_id, now, body),
    }
    try:
        httpx.post(facts["url"], content=body, headers=headers, timeout=5).raise_for_status()
    except httpx.HTTPError as error:
        print(f"the webhook {facts['url']} was not taken: {error}")


def _pictures(library: Path, subject: str, front: bool) -> str:
    originals = [
        path
        for path in sorted(library.rglob(f"*{subject}*"))
        if path.suffix.lower() in (".jpg", ".png") and not re.search(r"-\d+w\.", path.name)
    ]
    shown = []
    for index, path in enumerate(originals[: 9 if front else 12]):
        width, height = _shown_size(path, path.stat().st_mtime_ns)
        source = "/media/" + path.relative_to(library).as_posix()
        stem, ending = source.rsplit(".", 1)
        there = [size for size in SIZES if path.with_name(f"{path.stem}-{size}w{path.suffix}").exists()]
        sizes = [f"{stem}-{size}w.{ending} {size}w" for size in there if size < width]
        hero = front and index == 0
        # The front page's first picture is the mistake of every site: the full upload.
        srcset = "" if hero or not sizes else f' srcset="{escape(", ".join(sizes))}" sizes="15rem"'
        size = f'width="{width}" height="{height}"'
        shown.append(f'<img src="{escape(source)}"{srcset} {size} alt="{escape(path.stem)}">')
    if front and shown:
        return shown[0] + '<div class="grid">' + "".join(shown[1:]) + "</div>"
    return '<div class="grid">' + "".join(shown) + "</div>"


@lru_cache(maxsize=1000)
def _shown_size(path: Path, mtime_ns: int) -> tuple[int, int]:
    """Upright; of a file as it was at a time."""
    with Image.open(path) as image:
        turned = image.getexif().get(ExifTags.Base.Orientation, 1) >= 5
        return (image.height, image.width) if turned else (image.width, image.height)


def _page(title: str, body: str) -> str:
    links = "".join(f'<a href="/{path}">{escape(heading)}</a>' for path, (heading, _, _) in _PAGES.items())
    return (
        f'<!doctype html><html lang="en"><meta charset="utf-8"><title>{escape(title)}</title>'
        f'<meta name="viewport" content="width=device-width"><style>{_STYLE}</style>'
        f'<nav>{links}<a href="/upload">Upload</a></nav><h1>{escape(title)}</h1>{body}</html>'
    )


def _pages() -> SitePages | None:
    """Who rewrites the pages, where the site was told of a service."""
    key = os.environ.get("PLUMCRATE_KEY")
    if not key:
        return None
    client = Client(os.environ["PLUMCRATE_URL"], key, timeout=2.0)
    return SitePages(client, os.environ["PLUMCRATE_SITE_NAME"], seconds=5.0)


if __name__ == "__main__":
    uvicorn.run(
        create_site(
            Path(os.environ["PLUMCRATE_SITE_LIBRARY"]),
            Path(os.environ.get("PLUMCRATE_SITE_HOOK", "hook")),
            _pages(),
        ),
        host="127.0.0.1",
        port=int(os.environ.get("PLUMCRATE_SITE_PORT", "8030")),
        log_level="warning",
    )
