"""Uploads: in pieces over a line that is cut, in the place of others, many at a time, only tried."""

from __future__ import annotations

import base64
import hashlib
import io
import random
import socket
import threading
from collections.abc import Callable, Iterator
from datetime import timedelta
from pathlib import Path

import httpx
import numpy as np
import pytest
from conftest import Service, hashes, photograph, running_service
from databases import Postgres
from PIL import Image
from sqlalchemy import func, select, update

from plumcrate.client import Client, ProblemError
from plumcrate.client import uploads as pieces
from plumcrate.contract.automation import NewFiles
from plumcrate.contract.libraries import LibraryRequest
from plumcrate.contract.people import Ability, LibraryKeyRequest
from plumcrate.contract.pictures import FileState
from plumcrate.contract.recipes import Rule, When
from plumcrate.keeping import resumable
from plumcrate.keeping.state import StateFolder
from plumcrate.records.database import Database
from plumcrate.records.tables import File, ResumableUpload

PIECE_TYPE = {"Content-Type": "application/offset+octet-stream"}


@pytest.fixture(scope="module")
def service(postgres: Postgres, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    home = tmp_path_factory.mktemp("resumable")
    photograph(home / "site/a.jpg")
    with postgres.fresh() as url, running_service(url, home / "state") as running:
        running.client.libraries.connect(LibraryRequest(name="Ledge", root=str(home / "site")))
        yield running


@pytest.fixture
def site(service: Service) -> Path:
    return Path(service.client.libraries.get("ledge").root)


@pytest.fixture(scope="module")
def picture() -> bytes:
    """A PNG of a few hundred kilobytes."""
    pixels = np.random.default_rng(7).integers(0, 255, (300, 400, 3), np.uint8)
    out = io.BytesIO()
    Image.fromarray(pixels).save(out, "PNG")
    return out.getvalue()


Send = Callable[..., httpx.Response]


@pytest.fixture
def send(service: Service) -> Iterator[Send]:
    with httpx.Client(headers={"Authorization": f"Bearer {service.key}"}, timeout=60) as http:

        def sent(method: str, address: str, content: bytes = b"", **headers: str) -> httpx.Response:
            url = address if address.startswith("http") else f"{service.url}{address}"
            named = {name.replace("_", "-"): value for name, value in headers.items()}
            return http.request(method, url, content=content, headers=named)

        yield sent


def metadata(path: str, **more: str) -> str:
    said = {"path": path, **more}
    return ",".join(f"{name} {base64.b64encode(value.encode()).decode()}" for name, value in said.items())


def digest(data: bytes) -> str:
    return f"sha-256=:{base64.b64encode(hashlib.sha256(data).digest()).decode()}:"


def begun(send: Send, path: str, length: int, **headers: str) -> str:
    answer = send(
        "POST",
        "/api/v1/libraries/ledge/uploads",
        Upload_Length=str(length),
        Upload_Metadata=metadata(path, treat="by-hand"),
        **headers,
    )
    assert answer.status_code == 201, answer.text
    assert answer.headers["tus-resumable"] == "1.0.0"
    return answer.headers["location"]


def piece(send: Send, place: str, offset: int, data: bytes, **headers: str) -> httpx.Response:
    return send("PATCH", place, data, Upload_Offset=str(offset), **PIECE_TYPE, **headers)


def test_pieces_become_a_file_to_the_byte(send: Send, site: Path, picture: bytes) -> None:
    place = begun(send, "pieces/a.png", len(picture), Repr_Digest=digest(picture))
    third = len(picture) // 3
    for number in range(3):
        offset = number * third
        data = picture[offset : offset + third] if number < 2 else picture[offset:]
        assert send("HEAD", place).headers["upload-offset"] == str(offset)
        assert not (site / "pieces/a.png").exists(), "nothing half is in the library"
        answer = piece(send, place, offset, data, Content_Digest=digest(data))
        assert (answer.status_code, answer.headers["upload-offset"]) == (204, str(offset + len(data)))
    assert (site / "pieces/a.png").read_bytes() == picture
    told = send("GET", place).json()
    assert told["uploaded"]["path"] == "pieces/a.png"
    assert told["offset"] == told["length"] == len(picture)
    assert piece(send, place, len(picture), b"").status_code == 204, "asked again it is there already"


def test_out_of_order_overlapping_and_too_much(send: Send, site: Path, picture: bytes) -> None:
    place = begun(send, "order.png", len(picture))
    assert piece(send, place, 0, picture[:1000]).status_code == 204
    for offset in (0, 500, 1001, 2**60):
        answer = piece(send, place, offset, picture[offset : offset + 10])
        assert answer.status_code == 409
        assert answer.json()["offset"] == 1000, "the problem says where to go on"
    assert piece(send, place, 1000, picture[1000:] + b"and more").status_code == 413
    assert int(send("HEAD", place).headers["upload-offset"]) <= len(picture)
    assert not (site / "order.png").exists()


def test_other_bytes_than_were_said_are_not_kept(send: Send, site: Path, picture: bytes) -> None:
    place = begun(send, "digest.png", len(picture), Repr_Digest=digest(b"something else"))
    wrong = piece(send, place, 0, picture[:900], Content_Digest=digest(b"x"))
    assert wrong.status_code == 400
    assert wrong.json()["type"].endswith("digest-mismatch")
    assert send("HEAD", place).headers["upload-offset"] == "0", "a damaged piece is taken back"
    for header in ("sha-256=:AAAA:", "sha-256=7", "\x7f", "sha-256"):
        assert piece(send, place, 0, picture[:900], Content_Digest=header).status_code in (400, 422)
    assert piece(send, place, 0, picture, Content_Digest="md5=:AAAA:").status_code == 400, (
        "the whole is another"
    )
    assert send("HEAD", place).status_code == 404
    assert not (site / "digest.png").exists()


@pytest.mark.parametrize(
    ("path", "length", "said"),
    [
        ("../out.png", 10, 422),
        (".hidden.png", 10, 422),
        ("a.png", -1, 422),
        ("a.png", 10**12, 413),
        ("a.png", 2**70, 422),
    ],
)
def test_what_could_never_be_taken_in_is_not_begun(send: Send, path: str, length: int, said: int) -> None:
    headers = {"Upload_Length": str(length), "Upload_Metadata": metadata(path)}
    assert send("POST", "/api/v1/libraries/ledge/uploads", **headers).status_code == said


@pytest.mark.parametrize("header", ["path", "path !", "path /w==", "treat bm93", "path YS5wbmc=,treat bm93"])
def test_metadata_that_cannot_be_read_are_refused(send: Send, header: str) -> None:
    answer = send("POST", "/api/v1/libraries/ledge/uploads", Upload_Length="9", Upload_Metadata=header)
    assert answer.status_code == 422


def test_what_is_no_picture_is_refused_and_forgotten(send: Send, service: Service) -> None:
    place = begun(send, "fake.png", 9)
    answer = piece(send, place, 0, b"not a png")
    assert answer.status_code == 422
    assert answer.json()["type"].endswith("not-a-picture")
    assert send("HEAD", place).status_code == 404
    assert not list((service.state / "uploads").glob("*" + place.rpartition("/")[2]))


def test_another_kind_of_body_and_no_upload_at_all(send: Send, picture: bytes) -> None:
    place = begun(send, "kind.png", len(picture))
    assert send("PATCH", place, b"x", Upload_Offset="0", Content_Type="image/png").status_code == 415
    elsewhere = place.replace("/uploads/", "/uploads/x")
    for method in ("HEAD", "GET", "DELETE"):
        assert send(method, elsewhere).status_code == 404
    assert send("DELETE", place).status_code == 204
    assert send("HEAD", place).status_code == 404


def test_a_cut_keeps_what_came_and_the_next_request_goes_on(
    service: Service, send: Send, site: Path, picture: bytes
) -> None:
    place = begun(send, "cut.png", len(picture))
    half = len(picture) // 2
    with socket.create_connection(("127.0.0.1", service.port)) as line:
        line.sendall(
            f"PATCH {place} HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer {service.key}\r\n"
            f"Content-Type: {PIECE_TYPE['Content-Type']}\r\nUpload-Offset: 0\r\n"
            f"Content-Length: {len(picture)}\r\n\r\n".encode()
            + picture[:half]
        )
        # The line hangs. Who sends again ends the request that waits.
        while int(send("HEAD", place).headers["upload-offset"]) == 0 and half > 1 << 18:
            pass
        here = int(send("HEAD", place).headers["upload-offset"])
        answer = piece(send, place, here, picture[here : here + 10])
        if answer.status_code == 409:  # what had been gathered was written when the former request ended
            here = answer.json()["offset"]
            answer = piece(send, place, here, picture[here : here + 10])
        assert answer.status_code == 204, answer.text
    here = int(send("HEAD", place).headers["upload-offset"])
    assert piece(send, place, here, picture[here:]).status_code == 204
    assert (site / "cut.png").read_bytes() == picture


def test_so_many_wait_and_no_more(send: Send) -> None:
    places = []
    while True:
        answer = send(
            "POST",
            "/api/v1/libraries/ledge/uploads",
            Upload_Length="9",
            Upload_Metadata=metadata(f"many-{len(places)}.png"),
        )
        if answer.status_code != 201:
            break
        places.append(answer.headers["location"])
        assert len(places) <= 20
    assert answer.status_code == 429
    for place in places:
        send("DELETE", place)


def test_what_is_never_ended_is_cleared_away(service: Service, send: Send, picture: bytes) -> None:
    place = begun(send, "old.png", len(picture))
    piece(send, place, 0, picture[:100])
    number = place.rpartition("/")[2]
    database = Database(service.database_url)
    state = StateFolder(database, service.state)
    stray = service.state / "uploads/of-nobody"
    stray.write_bytes(b"x")
    with database.begin() as session:
        assert resumable.clear(session, state) == 1
        assert not stray.exists()
        session.execute(
            update(ResumableUpload)
            .where(ResumableUpload.id == number)
            .values(created_at=func.now() - timedelta(hours=25))
        )
    assert send("HEAD", place).status_code == 404
    with database.begin() as session:
        assert resumable.clear(session, state) == 1
        assert session.scalar(select(ResumableUpload).where(ResumableUpload.id == number)) is None
    assert not (service.state / "uploads" / number).exists()
    database.close()


class Cutting(httpx.HTTPTransport):
    """A line that is cut in the middle of some pieces: the service gets a part, the client an error."""

    def __init__(self, cuts: int) -> None:
        super().__init__()
        self.cuts, self.sent = cuts, 0
        self._chance = random.Random(3)

    def handle_request(self, request: httpx.Request) -> httpx.Response:
        if request.method == "PATCH":
            body = request.read()
            if self.cuts and self._chance.random() < 0.5:
                self.cuts -= 1
                part = body[: len(body) // 3]
                self.sent += len(part)
                headers = request.headers.copy()
                del headers["content-digest"]
                headers["content-length"] = str(len(part))
                super().handle_request(
                    httpx.Request("PATCH", request.url, headers=headers, content=part)
                ).read()
                raise httpx.WriteError("the line was cut", request=request)
            self.sent += len(body)
        return super().handle_request(request)


def test_the_client_goes_on_after_cuts_and_sends_little_twice(
    service: Service, site: Path, picture: bytes, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(pieces, "PIECE", 20_000)
    line = Cutting(3)
    told: list[tuple[int, int]] = []
    with Client(service.url, service.key, transport=line) as client:
        uploaded = client.pictures.upload_file(
            "ledge",
            "by-client.png",
            io.BytesIO(picture),
            treat=NewFiles.BY_HAND,
            told=lambda sent, whole: told.append((sent, whole)),
        )
    assert line.cuts == 0
    assert uploaded.path == "by-client.png"
    assert (site / "by-client.png").read_bytes() == picture
    assert line.sent < 1.05 * len(picture) + 20_000
    assert told[-1] == (len(picture), len(picture))
    assert [sent for sent, _ in told] == sorted(sent for sent, _ in told)


def test_the_same_file_twice_is_one_and_another_is_refused(
    service: Service, site: Path, picture: bytes
) -> None:
    first = service.client.pictures.upload("ledge", "twice.png", picture, NewFiles.BY_HAND)
    again = service.client.pictures.upload("ledge", "twice.png", picture, NewFiles.BY_HAND)
    assert (first.file_id, first.size_before) == (again.file_id, again.size_before)
    with pytest.raises(ProblemError) as refused:
        service.client.pictures.upload("ledge", "twice.png", picture[:-12], NewFiles.BY_HAND)
    assert refused.value.code in ("name-taken", "not-a-picture")
    answers: list[int] = []

    def send() -> None:
        with Client(service.url, service.key) as client:
            answers.append(client.pictures.upload("ledge", "at-once.png", picture, NewFiles.BY_HAND).file_id)

    threads = [threading.Thread(target=send) for _ in range(4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len(set(answers)) == 1
    assert (site / "at-once.png").read_bytes() == picture


def test_a_put_with_a_wrong_digest_writes_nothing(
    service: Service, send: Send, site: Path, picture: bytes
) -> None:
    address = "/api/v1/libraries/ledge/files/put.png?treat=by-hand"
    assert send("PUT", address, picture, Content_Digest=digest(b"x")).status_code == 400
    assert not (site / "put.png").exists()
    assert send("PUT", address, picture, Content_Digest=digest(picture)).status_code == 201


def version(service: Service, path: str) -> str:
    """What tells the file that was uploaded under a name from others."""
    found = service.client.pictures.page("ledge", path=path).rows[0]
    return next(
        file.original_version for file in service.client.pictures.get(found.id).all_files if file.path == path
    )


def other(picture: bytes, seed: int) -> bytes:
    """Another picture of the same format."""
    pixels = np.random.default_rng(seed).integers(0, 255, (30, 40, 3), np.uint8)
    out = io.BytesIO()
    Image.fromarray(pixels).save(out, "PNG")
    return out.getvalue()


def test_a_file_takes_the_place_of_the_one_that_is_meant(
    service: Service, send: Send, site: Path, picture: bytes
) -> None:
    pictures = service.client.pictures
    first = pictures.upload("ledge", "in/place.png", picture, NewFiles.BY_HAND)
    known = version(service, "in/place.png")
    second, third = other(picture, 1), other(picture, 2)
    with pytest.raises(ProblemError, match="is there already") as taken:
        pictures.upload("ledge", "in/place.png", second, NewFiles.BY_HAND)
    assert taken.value.code == "name-taken"
    replaced = pictures.upload("ledge", "in/place.png", second, NewFiles.BY_HAND, replaces=known)
    assert (replaced.file_id, replaced.size_before) == (first.file_id, len(second))
    assert (site / "in/place.png").read_bytes() == second
    again = pictures.upload("ledge", "in/place.png", second, NewFiles.BY_HAND, replaces=known)
    assert again.file_id == first.file_id, "whoever did not hear the answer sends it again"
    with pytest.raises(ProblemError) as meanwhile:
        pictures.upload("ledge", "in/place.png", third, NewFiles.BY_HAND, replaces=known)
    assert (meanwhile.value.status, meanwhile.value.code) == (412, "changed-meanwhile")
    assert (site / "in/place.png").read_bytes() == second
    pictures.upload("ledge", "in/place.png", third, NewFiles.BY_HAND, replaces="*")
    assert (site / "in/place.png").read_bytes() == third
    kept = {row.size for row in service.client.backups.each_of_orphans("ledge")}
    assert {len(picture), len(second)} <= kept, "what was replaced can be had again"
    fourth = other(picture, 5)
    (site / "in/place.png").write_bytes(other(picture, 6))  # by the site, and not on record yet
    pictures.upload("ledge", "in/place.png", fourth, NewFiles.BY_HAND, replaces="*")
    assert (site / "in/place.png").read_bytes() == fourth
    (site / "in/unknown.png").write_bytes(picture)
    pictures.upload("ledge", "in/unknown.png", fourth, NewFiles.BY_HAND, replaces="*")
    assert (site / "in/unknown.png").read_bytes() == fourth
    assert len(picture) in {row.size for row in service.client.backups.each_of_orphans("ledge")}
    with pytest.raises(ProblemError) as absent:
        pictures.upload("ledge", "in/nothing.png", third, NewFiles.BY_HAND, replaces="*")
    assert absent.value.code == "changed-meanwhile"
    assert not (site / "in/nothing.png").exists()
    history = pictures.get(first.picture_id).history
    assert [entry.action for entry in history].count("supersede") == 3


def test_pieces_take_a_files_place_too(service: Service, send: Send, site: Path, picture: bytes) -> None:
    service.client.pictures.upload("ledge", "in/pieces.png", picture, NewFiles.BY_HAND)
    late = begun(send, "in/pieces.png", 1_000, If_Match='"of-another"')
    small = other(picture, 3)
    place = begun(send, "in/pieces.png", len(small), If_Match=f'"x", "{version(service, "in/pieces.png")}"')
    assert piece(send, place, 0, small).status_code == 204
    assert (site / "in/pieces.png").read_bytes() == small
    padded = small + bytes(1_000 - len(small) % 1_000)
    assert piece(send, late, 0, padded[:1_000]).status_code == 412
    assert (site / "in/pieces.png").read_bytes() == small


def test_to_replace_needs_the_right_to_mend(service: Service, site: Path, picture: bytes) -> None:
    request = LibraryKeyRequest(name="sends", abilities=[Ability.LOOK, Ability.UPLOAD])
    made = service.client.keys.make_for_library("ledge", request)
    service.client.pictures.upload("ledge", "in/theirs.png", picture, NewFiles.BY_HAND)
    with Client(service.url, made.secret) as sends:
        sends.pictures.upload("ledge", "in/new.png", picture, NewFiles.BY_HAND)
        for send_it in (
            lambda: sends.pictures.upload("ledge", "in/theirs.png", other(picture, 4), replaces="*"),
            lambda: sends.pictures.upload_file("ledge", "in/theirs.png", io.BytesIO(picture), replaces="*"),
        ):
            with pytest.raises(ProblemError) as refused:
                send_it()
            assert refused.value.code == "not-allowed"
    assert (site / "in/theirs.png").read_bytes() == picture


def test_a_file_that_is_gone_can_be_sent_again(service: Service, site: Path, picture: bytes) -> None:
    service.client.pictures.upload("ledge", "in/gone.png", picture, NewFiles.BY_HAND)
    (site / "in/gone.png").unlink()
    database = Database(service.database_url)
    with database.begin() as session:  # as a survey records it
        session.execute(update(File).where(File.path == "in/gone.png").values(state=FileState.GONE))
    database.close()
    service.client.pictures.upload("ledge", "in/gone.png", picture, NewFiles.BY_HAND)
    assert (site / "in/gone.png").read_bytes() == picture


def test_many_are_sent_and_each_is_answered(
    service: Service, site: Path, tmp_path: Path, picture: bytes
) -> None:
    files = []
    for number in range(9):
        file = tmp_path / f"{number}.png"
        file.write_bytes(b"no picture" if number == 4 else other(picture, 10 + number))
        files.append((f"many/{number}.png", file))
    answers = list(service.client.pictures.upload_files("ledge", files, treat=NewFiles.BY_HAND))
    assert [path for path, _ in answers] == [path for path, _ in files]
    refused = [(path, answer.code) for path, answer in answers if isinstance(answer, ProblemError)]
    assert refused == [("many/4.png", "not-a-picture")]
    assert sorted(file.name for file in (site / "many").iterdir()) == [f"{n}.png" for n in range(9) if n != 4]


def test_an_upload_is_tried_and_nothing_is_written(service: Service, site: Path, picture: bytes) -> None:
    client = service.client
    file = site.parent / "tried.jpg"
    data = photograph(file, 320, 240)
    before = hashes(site)
    rows = client.pictures.page("ledge").total
    trial = client.pictures.try_upload("ledge", "tried/new.jpg", data)
    assert (trial.taken, trial.role, trial.format, trial.width, trial.size) == (
        False,
        "original",
        "jpeg",
        320,
        len(data),
    )
    chosen = {(one.role, one.format) for one in trial.outputs if one.verdict == "chosen"}
    assert ("file", "jpeg") in chosen
    assert all(one.data is None for one in trial.outputs)
    lighter = next(one for one in trial.outputs if one.role == "file")
    assert lighter.size < len(data)
    assert client.pictures.try_upload("ledge", "a.jpg", data).taken
    recipe = client.recipes.get("ledge")
    rule = Rule(name="press", when=When(folder="tried"), leave=True)
    client.recipes.save("ledge", recipe.settings.model_copy(update={"rules": [rule]}))
    left = client.pictures.try_upload("ledge", "tried/new.jpg", data)
    assert (left.rule, left.level, left.outputs) == ("press", None, [])
    for path, content in (("tried/new.png", data), ("tried/new.jpg", b"no picture")):
        with pytest.raises(ProblemError) as refused:
            client.pictures.try_upload("ledge", path, content)
        assert refused.value.code == "not-a-picture"
    assert hashes(site) == before
    assert client.pictures.page("ledge").total == rows


def test_bytes_are_had_by_ranges_and_conditions(service: Service, send: Send, picture: bytes) -> None:
    sent = service.client.pictures.upload("ledge", "in/ranges.png", picture, NewFiles.BY_HAND)
    address = f"/api/v1/files/{sent.file_id}/content"
    whole = send("GET", address)
    assert (whole.status_code, whole.content, whole.headers["accept-ranges"]) == (200, picture, "bytes")
    part = send("GET", address, Range="bytes=100-299", If_Range=whole.headers["etag"])
    assert (part.status_code, part.content) == (206, picture[100:300])
    assert part.headers["content-range"] == f"bytes 100-299/{len(picture)}"
    assert send("GET", address, Range="bytes=-5").content == picture[-5:]
    assert send("GET", address, Range=f"bytes={len(picture)}-").status_code == 416
    assert send("GET", address, If_None_Match=f"W/{whole.headers['etag']}").status_code == 304
    assert send("GET", address, If_Modified_Since=whole.headers["last-modified"]).status_code == 304
    assert send("GET", address, If_Match='"another"').status_code == 412
    first = send("GET", f"{address}?version=before")
    assert first.headers["etag"] == f'"{version(service, "in/ranges.png")}"'
