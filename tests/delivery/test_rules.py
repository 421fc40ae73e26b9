"""The rules that are written for the site's own server, in the real servers."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from urllib.parse import quote

import httpx
import pytest
from conftest import open_folder
from servers import serving

from plumcrate.delivery.rules import RulesContext, Server, UnfitName, rules
from plumcrate.delivery.rules.ground import Moved

NAMES = {
    "tower.jpg": ("avif", "webp"),
    "2025/10/Übersicht & Preise.jpg": ("avif", "webp"),
    "2025/with space+plus.png": ("avif", "webp"),
    "2025/100%.jpg": ("avif",),
    "2025/50%25.jpg": ("avif",),
    "2025/ring#1.gif": ("webp",),
    "2025/it's (1),[2].jpg": ("avif",),
    "2025/$HOME;x=1.jpg": ("avif",),
    "2025/UPPER.JPG": ("avif",),
    "plain.jpg": (),
    "leaflet.pdf": (),
}
#: Names of files that made way, none of which a configuration holds as it is; one is of 600 bytes.
ODD_MOVED = (
    "cash $HOME",
    'say "yes"',
    "curly {1}*",
    "back\\slash",
    "~tilde; #1",
    "/".join(["long" * 50] * 3),
)
#: What is in the folder beside pictures: at a site's root this is its own source.
SITES_OWN = {"config.php": b"<?php secret", "notes.txt": b"notes", "jpg": b"no ending"}
BROWSER = "image/avif,image/webp,image/apng,image/svg+xml,image/*,*/*;q=0.8"
WHAT = {"file": "the file", "avif": "avif", "webp": "a webp"}
TYPES = {"file": "image/jpeg", "avif": "image/avif", "webp": "image/webp"}


@pytest.fixture(scope="module")
def ground() -> Iterator[RulesContext]:
    """A library with copies beside the files; what each file holds says what it is."""
    with open_folder() as home:
        folder = home / "media library"
        for name, copies in NAMES.items():
            place = folder / name
            place.parent.mkdir(parents=True, exist_ok=True)
            place.write_bytes(b"the file of " + name.encode())
            for copy in copies:
                Path(f"{place}.{copy}").write_bytes(f"{WHAT[copy]} of {name}".encode())
        (folder / "gone.jpg.avif").write_bytes(b"left behind")
        (folder / "moved away.jpg").write_bytes(b"the conversion")
        (folder / "put back.png").write_bytes(b"the file of put back.png")
        (folder / "put back.jpg").write_bytes(b"the file of put back.jpg")
        (folder / ".plumcrate.id").write_bytes(b"identity")
        (folder / "2025/.plumcrate-1-staged.jpg").write_bytes(b"staged")
        (folder / ".hidden").mkdir()
        (folder / ".hidden/x.jpg").write_bytes(b"hidden")
        (folder / ".hidden/x.jpg.avif").write_bytes(b"a copy")
        (folder / "guarded").mkdir()
        (folder / "guarded/secret.jpg").write_bytes(b"secret")
        (folder / "guarded/secret.jpg.avif").write_bytes(b"secret")
        (home / "outside").write_bytes(b"of somebody else")
        (folder / "linked.jpg").write_bytes(b"the file of linked")
        (folder / "linked.jpg.avif").symlink_to(home / "outside")
        for name, text in SITES_OWN.items():
            (folder / name).write_bytes(text)
        (folder / "seen twice.jpg").write_bytes(b"the file of seen twice.jpg")
        (folder / "seen twice.jpg.avif").write_bytes(b"avif of seen twice.jpg")
        (folder / "tower.jpg.save-data.avif").write_bytes(b"a leaner avif of tower.jpg")
        moved = (
            Moved("seen twice.jpg", "moved away.jpg", always=True),
            Moved("moved away.png", "moved away.jpg"),
            Moved("put back.png", "put back.jpg"),
            *(Moved(f"{name}.png", "moved away.jpg") for name in ODD_MOVED),
        )
        yield RulesContext(
            "Gannet Ledge",
            str(folder),
            "https://ledge.example/up loads/x",
            ("avif", "webp"),
            600,
            moved,
            save_data=True,
        )


@pytest.fixture(scope="module", params=list(Server))
def site(request: pytest.FixtureRequest, ground: RulesContext) -> Iterator[httpx.Client]:
    with serving(request.param, ground) as origin, httpx.Client(base_url=origin) as client:
        client.headers.clear()
        yield client
    Path(ground.folder, ".htaccess").unlink(missing_ok=True)


def fetch(
    site: httpx.Client, name: str, accept: str | None = None, method: str = "GET", **more: str
) -> httpx.Response:
    headers = more | ({"Accept": accept} if accept is not None else {})
    return site.request(method, f"/up%20loads/x/{quote(name, safe='/')}", headers=headers)


@pytest.mark.parametrize(
    ("accept", "form"),
    [
        (BROWSER, "avif"),
        ("image/webp,image/*,*/*;q=0.8", "webp"),
        ("image/avif", "avif"),
        ("*/*", "file"),
        ("image/*", "file"),
        ("text/html", "file"),
        (None, "file"),
        ("", "file"),
        ("image/avif;q=0", "file"),
        ("image/avif;q=0, image/webp", "webp"),
        ("image/avif; q=0.000, image/webp;q=0.5", "webp"),
        ("image/avif;level=1;q=0,image/webp", "webp"),
        ("image/avif;q=0.5", "avif"),
        ("image/avif ; q=1.0 , */*", "avif"),
        ("text/html,image/webp;q=0.01", "webp"),
        ("IMAGE/AVIF", "avif"),
        ("image/avifx,ximage/avif", "file"),
        ("image/webp,image/avif", "avif"),
        ("image/avif-sequence,image/webp2", "file"),
    ],
)
def test_each_browser_gets_what_it_accepts(site: httpx.Client, accept: str | None, form: str) -> None:
    answer = fetch(site, "tower.jpg", accept)
    assert answer.status_code == 200
    assert answer.content == f"{WHAT[form]} of tower.jpg".encode()
    assert answer.headers["content-type"] == TYPES[form]
    assert "accept" in [part.strip().lower() for part in answer.headers["vary"].split(",")]
    assert answer.headers["cache-control"] == "public, max-age=600"
    head = fetch(site, "tower.jpg", accept, "HEAD")
    assert (head.status_code, head.content) == (200, b"")
    assert head.headers["content-length"] == str(len(answer.content))
    assert head.headers["content-type"] == answer.headers["content-type"]


@pytest.mark.parametrize("name", NAMES)
def test_names_of_every_kind(site: httpx.Client, name: str) -> None:
    best = WHAT[NAMES[name][0] if NAMES[name] else "file"]
    own, answer = fetch(site, name, "*/*"), fetch(site, name, BROWSER)
    assert (own.status_code, own.content) == (200, f"the file of {name}".encode())
    assert (answer.status_code, answer.content) == (200, f"{best} of {name}".encode())


def test_a_name_with_a_question_mark_is_served(site: httpx.Client, ground: RulesContext) -> None:
    place = Path(ground.folder, "what?.jpg")
    place.write_bytes(b"the file of what")
    assert fetch(site, "what?.jpg", BROWSER).content == b"the file of what"


def test_no_copy_stands_in_for_a_file_that_is_not_there(site: httpx.Client) -> None:
    assert fetch(site, "gone.jpg", BROWSER).status_code == 404
    assert fetch(site, "no such.jpg", BROWSER).status_code == 404


@pytest.mark.parametrize(
    "name",
    [
        ".plumcrate.id",
        "2025/.plumcrate-1-staged.jpg",
        "2025/",
        "2025/../.plumcrate.id",
    ],
)
def test_nothing_of_ours_is_served_and_no_folder_is_listed(site: httpx.Client, name: str) -> None:
    for accept in (BROWSER, "*/*"):
        assert fetch(site, name, accept).status_code in (400, 403, 404)


def test_files_that_made_way_for_their_conversion_are_redirected(site: httpx.Client) -> None:
    answer = fetch(site, "moved away.png", BROWSER)
    assert answer.status_code == 302
    assert answer.headers["location"].endswith("/up%20loads/x/moved%20away.jpg")
    assert site.get(answer.headers["location"]).content == b"the conversion"
    back = fetch(site, "put back.png", BROWSER)
    assert (back.status_code, back.content) == (200, b"the file of put back.png"), (
        "a file that is there is served"
    )


@pytest.mark.parametrize(
    ("accept", "asks", "content"),
    [
        (BROWSER, "on", b"a leaner avif of tower.jpg"),
        (BROWSER, "On", b"a leaner avif of tower.jpg"),
        (BROWSER, "off", b"avif of tower.jpg"),
        (BROWSER, "only", b"avif of tower.jpg"),
        ("image/webp,*/*", "on", b"a webp of tower.jpg"),
        ("*/*", "on", b"the file of tower.jpg"),
    ],
)
def test_who_asks_for_less_data_gets_a_leaner_copy(
    site: httpx.Client, accept: str, asks: str, content: bytes
) -> None:
    answer = fetch(site, "tower.jpg", accept, **{"Save-Data": asks})
    assert (answer.status_code, answer.content) == (200, content)
    assert "save-data" in [part.strip().lower() for part in answer.headers["vary"].split(",")]


def test_a_leaner_copy_that_was_taken_back_is_answered_with_its_file(site: httpx.Client) -> None:
    assert fetch(site, "plain.jpg.save-data.avif", BROWSER).content == b"the file of plain.jpg"


def test_a_picture_that_is_answered_with_another_is_redirected_though_it_stands(site: httpx.Client) -> None:
    for accept in (BROWSER, "*/*"):
        answer = fetch(site, "seen twice.jpg", accept)
        assert answer.status_code == 302
        assert answer.headers["location"].endswith("/up%20loads/x/moved%20away.jpg")


def test_validators_and_ranges_are_of_the_form_that_is_served(site: httpx.Client) -> None:
    avif, own = fetch(site, "tower.jpg", BROWSER), fetch(site, "tower.jpg", "*/*")
    assert avif.headers["etag"] != own.headers["etag"]
    assert fetch(site, "tower.jpg", BROWSER, **{"If-None-Match": avif.headers["etag"]}).status_code == 304
    assert fetch(site, "tower.jpg", BROWSER, **{"If-None-Match": own.headers["etag"]}).status_code == 200
    part = fetch(site, "tower.jpg", BROWSER, Range="bytes=0-3")
    assert (part.status_code, part.content) == (206, b"avif")
    assert fetch(site, "tower.jpg", BROWSER, Range="bytes=900-").status_code == 416


def test_a_copy_that_vanished_or_came_counts_at_once(site: httpx.Client, ground: RulesContext) -> None:
    copy = Path(ground.folder, "tower.jpg.avif")
    kept = copy.read_bytes()
    copy.unlink()
    assert fetch(site, "tower.jpg", BROWSER).content == b"a webp of tower.jpg"
    copy.write_bytes(kept)
    assert fetch(site, "tower.jpg", BROWSER).content == kept


@pytest.mark.parametrize("server", list(Server))
@pytest.mark.parametrize("folder", ['/srv/a"b', "/srv/a\nb"])
def test_what_a_configuration_cannot_say_is_refused(server: Server, folder: str) -> None:
    with pytest.raises(UnfitName, match="cannot be written"):
        rules(server, RulesContext("x", folder, "https://x.example/u", ("avif",), 60))


@pytest.mark.parametrize("server", list(Server))
def test_the_rules_name_the_library_and_only_its_copies(server: Server) -> None:
    text = rules(server, RulesContext("Gannet Ledge", "/srv/ledge", "https://x.example", ("webp",), 0))
    assert "Gannet Ledge" in text
    assert "image/webp" in text
    assert "image/avif" not in text.replace("        image/avif avif;", "")  # of a file that is one
    assert "public, no-cache" in text


def test_what_is_no_picture_is_served_as_the_site_has_it(site: httpx.Client) -> None:
    """The rules neither open what the site keeps shut, nor shut what it serves, nor say anything of it."""
    for name, text in SITES_OWN.items():
        answer = fetch(site, name, BROWSER)
        assert (answer.status_code, answer.content) == (200, text), name
        assert "vary" not in answer.headers, name
    for accept in (BROWSER, "*/*"):
        assert fetch(site, "guarded/secret.jpg", accept).status_code in (403, 404), (
            "the site's own rule holds"
        )
    assert fetch(site, ".hidden/x.jpg", BROWSER).content != b"a copy", "nothing hidden is negotiated"


def test_no_link_leads_a_copy_out_of_the_library(site: httpx.Client, request: pytest.FixtureRequest) -> None:
    server = request.node.callspec.params["site"]
    if server == Server.CADDY:
        pytest.skip("Caddy's own file server follows links; the rules add nothing to it")
    assert fetch(site, "linked.jpg", BROWSER).content != b"of somebody else"


def test_a_copy_that_was_taken_back_is_answered_with_its_file(site: httpx.Client) -> None:
    """A page that was made before a picture was put back goes on showing it."""
    for copy in ("avif", "webp"):
        answer = fetch(site, f"plain.jpg.{copy}", BROWSER)
        assert (answer.status_code, answer.content) == (200, b"the file of plain.jpg")
        assert answer.headers["content-type"] == "image/jpeg"
    assert fetch(site, "tower.jpg.avif", "*/*").content == b"avif of tower.jpg"
    assert fetch(site, "no such.jpg.avif", BROWSER).status_code == 404


@pytest.mark.parametrize("name", ODD_MOVED)
def test_a_moved_file_with_an_odd_name_is_redirected_and_spoils_nothing(
    site: httpx.Client, name: str
) -> None:
    answer = fetch(site, f"{name}.png", BROWSER)
    assert answer.status_code == 302
    assert site.get(answer.headers["location"]).content == b"the conversion"


@pytest.mark.parametrize("server", list(Server))
def test_a_name_that_no_configuration_can_hold_is_left_out_and_said(server: Server) -> None:
    moved = (
        Moved("line\nend.tif", "line.jpg"),
        Moved("x" * 1_000 + ".tif", "x.jpg"),
        Moved("a.tif", "a.jpg"),
    )
    text = rules(server, RulesContext("Ledge", "/srv/ledge", "https://x.example/u", ("avif",), 0, moved))
    assert "cannot hold the name (2 in all)" in text
    assert '"line\\nend.tif"' in text
    assert "/u/a.jpg" in text


def test_the_documentation_shows_what_is_written() -> None:
    text = (Path(__file__).parents[2] / "docs/serving/servers.md").read_text()
    name, address = "Gannet Ledge Light Trust", "https://ledge.example/uploads"
    ground = RulesContext(name, "/srv/ledge/uploads", address, ("avif", "webp"), 3_600)
    for server in Server:
        assert rules(server, ground) in text
