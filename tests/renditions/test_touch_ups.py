"""Touch-ups and watermarks: made from the backup however often they change, and taken back to the byte."""

from __future__ import annotations

import io
from pathlib import Path

import numpy as np
import pytest
from conftest import photograph
from PIL import Image
from sized import Ledge
from sqlalchemy import select, update

from plumcrate.contract.automation import Automation
from plumcrate.contract.common import Level
from plumcrate.contract.recipes import RecipeSettings
from plumcrate.contract.runs import ItemState, RunKind
from plumcrate.contract.touches import Touches, TouchesFor, WatermarkSettings
from plumcrate.deciding.planning import save_recipe
from plumcrate.records.database import Database
from plumcrate.records.tables import File, Ledger, Library, Picture, WatermarkRow
from plumcrate.refusal import Refusal
from plumcrate.renditions.touch_ups import add_touches, save_touches, touched_view
from plumcrate.renditions.watermarks import remove_watermark, save_watermark, set_picture, watermarks

TEN = [
    {"kind": "turn", "quarters": 1},
    {"kind": "crop", "left": 0.1, "top": 0.1, "width": 0.8, "height": 0.7, "angle": 2.5},
    {"kind": "brightness", "amount": 20},
    {"kind": "contrast", "amount": 15},
    {"kind": "white", "colour": [240, 230, 210]},
    {"kind": "cover", "points": [[0.4, 0.5], [0.5, 0.5]], "radius": 0.03},
    {"kind": "saturation", "amount": 30},
    {"kind": "cover", "points": [[0.2, 0.2]], "radius": 0.05, "way": "clone", "offset": [0.3, 0.1]},
    {"kind": "sharpen", "amount": 1, "radius": 0.8, "threshold": 2},
    {"kind": "grey"},
]


class Bench(Ledge):
    """A library whose pictures are touched up and watermarked."""

    def touch(self, path: str, *steps: dict[str, object], original: str | None = None) -> None:
        with self.database.begin() as session:
            wanted = Touches.model_validate({"steps": steps, "original": original})
            save_touches(session, self.picture(session, path), wanted, "Rill")

    def version(self, path: str) -> str:
        with self.database.begin() as session:
            return touched_view(session, self.picture(session, path)).original

    @staticmethod
    def picture(session, path: str) -> Picture:  # type: ignore[no-untyped-def]
        return session.scalars(select(Picture).where(Picture.path == path)).one()

    def watermark(self, name: str = "lamp", picture: bytes | None = None, **settings: object) -> None:
        with self.database.begin() as session:
            wanted = WatermarkSettings.model_validate(settings)
            save_watermark(session, session.get_one(Library, 1), name, wanted, "Rill", self.box)  # type: ignore[arg-type]
            if picture is not None:
                set_picture(session, session.get_one(Library, 1), name, picture, self.box)  # type: ignore[arg-type]

    def unmark(self, name: str = "lamp") -> None:
        with self.database.begin() as session:
            remove_watermark(session, self.library, name)

    def image(self, path: str) -> Image.Image:
        image = Image.open(self.root / path)
        image.load()
        return image


@pytest.fixture
def bench(database: Database, tmp_path: Path) -> Bench:
    return Bench(database, tmp_path)


def stamp(width: int = 60, height: int = 24) -> bytes:
    rgba = np.zeros((height, width, 4), np.uint8)
    rgba[4:-4, 4:-4] = (200, 30, 30, 255)
    out = io.BytesIO()
    Image.fromarray(rgba).save(out, "PNG")
    return out.getvalue()


def test_ten_steps_are_made_and_undone_one_by_one_to_the_byte(bench: Bench) -> None:
    bench.run(copies=["webp"])
    states = [bench.tree()]
    sizes = []
    for count in range(1, len(TEN) + 1):
        bench.touch("2026/a.jpg", *TEN[:count])
        items = bench.run(copies=["webp"])
        assert [item.path for item in items] == ["2026/a.jpg"]
        states.append(bench.tree())
        sizes.append(bench.image("2026/a.jpg").size)
    assert len({state["2026/a.jpg"] for state in states}) == len(states), "each step shows"
    assert sizes[0] == (320, 480), "turned"
    assert bench.image("2026/a.jpg").mode == "L"
    for count in range(len(TEN) - 1, -1, -1):
        bench.touch("2026/a.jpg", *TEN[:count])
        bench.run(copies=["webp"])
        assert bench.tree() == states[count], f"back to {count} steps"
    bench.run(kind=RunKind.RESTORE)
    assert (bench.root / "2026/a.jpg").read_bytes() == bench.original("2026/a.jpg")


def test_copies_and_sizes_follow_and_history_says_who(bench: Bench) -> None:
    bench.save("card", width=200, copies=["webp"])
    bench.run()
    before = bench.tree()
    bench.touch("2026/a.jpg", {"kind": "turn", "quarters": 1}, {"kind": "grey"})
    bench.run()
    after = bench.tree()
    changed = {path for path in before.keys() | after.keys() if before.get(path) != after.get(path)}
    assert {"2026/a.jpg", "2026/a-card-200.jpg"} <= changed
    assert all("/a" in path for path in changed), "no other picture"
    assert bench.image("2026/a-card-200.jpg").size == (200, 300)
    with bench.database.begin() as session:
        entry = session.scalars(select(Ledger).where(Ledger.action == "touched-up")).one()
        assert entry.detail == {"by": "Rill", "steps": ["turn", "grey"]}
        file = session.scalars(select(File).where(File.path == "2026/a.jpg")).one()
        assert (file.shown, (file.width, file.height)) == ((320, 480), (480, 320))


def test_a_rendition_of_the_site_follows_in_light_and_colour_only(bench: Bench) -> None:
    Image.open(bench.root / "2026/a.jpg").resize((240, 160)).save(
        bench.root / "2026/a-240x160.jpg", quality=95
    )
    bench.library.patterns = ["{stem}-{width}x{height}{ext}"]
    with bench.database.begin() as session:
        session.merge(bench.library)
    bench.survey()
    bench.run()
    bench.touch("2026/a.jpg", {"kind": "crop", "width": 0.5}, {"kind": "grey"})
    assert {item.path for item in bench.run()} == {"2026/a.jpg", "2026/a-240x160.jpg"}
    rendition = bench.image("2026/a-240x160.jpg")
    assert (rendition.size, rendition.mode) == ((240, 160), "L")
    bench.touch("2026/a.jpg", {"kind": "crop", "width": 0.4})
    bench.run()
    assert bench.image("2026/a-240x160.jpg").mode == "RGB"


def test_an_undo_of_what_was_replaced_meanwhile_is_refused_in_plain_words(bench: Bench) -> None:
    bench.touch("2026/a.jpg", {"kind": "grey"})
    bench.run()
    version = bench.version("2026/a.jpg")
    bench.touch("2026/a.jpg", {"kind": "grey"}, {"kind": "contrast", "amount": 5}, original=version)
    bench.run()
    assert bench.version("2026/a.jpg") == version, "a treatment replaces nothing"
    theirs = photograph(bench.root / "2026/a.jpg", 400, 300, seed=21)
    bench.survey()
    with pytest.raises(Refusal, match="replaced by another picture meanwhile"):
        bench.touch("2026/a.jpg", {"kind": "grey"}, original=version)
    assert (bench.root / "2026/a.jpg").read_bytes() == theirs
    with bench.database.begin() as session:
        assert bench.picture(session, "2026/a.jpg").touches is None
    bench.run()
    assert bench.image("2026/a.jpg").mode == "RGB", "the new picture is itself"


def test_the_same_steps_for_several_and_never_a_place_in_one_picture(bench: Bench) -> None:
    with bench.database.begin() as session:
        ids = list(session.scalars(select(Picture.id).where(Picture.format == "jpeg")))
        wanted = {"pictures": ids, "steps": [{"kind": "saturation", "amount": -100}]}
        assert add_touches(session, bench.library, TouchesFor.model_validate(wanted), "Rill") == 2
    bench.touch("2026/b.jpeg", {"kind": "saturation", "amount": -100}, {"kind": "brightness", "amount": 9})
    with bench.database.begin() as session:
        wanted = {"pictures": ids, "steps": [{"kind": "contrast", "amount": 9}]}
        add_touches(session, bench.library, TouchesFor.model_validate(wanted), "Rill")
        assert [step["kind"] for step in bench.picture(session, "2026/b.jpeg").touches or []] == [
            "saturation",
            "brightness",
            "contrast",
        ]
    for bad in ({"kind": "crop", "width": 0.5}, {"kind": "cover", "points": [[0.5, 0.5]]}):
        asked = TouchesFor.model_validate({"pictures": ids, "steps": [bad]})
        with bench.database.begin() as session, pytest.raises(Refusal, match="place in one picture"):
            add_touches(session, bench.library, asked, "Rill")
    many = TouchesFor.model_validate({"pictures": ids, "steps": [{"kind": "grey"}] * 40})
    with bench.database.begin() as session:
        add_touches(session, bench.library, many, "Rill")
        with pytest.raises(Refusal, match="at most 60"):
            add_touches(session, bench.library, many, "Rill")
    asked = TouchesFor.model_validate({"pictures": [*ids, 4711], "steps": [{"kind": "grey"}]})
    with bench.database.begin() as session, pytest.raises(Refusal, match="not in the library"):
        add_touches(session, bench.library, asked, "Rill")


def test_nothing_is_touched_or_marked_where_no_backup_keeps_the_original(bench: Bench) -> None:
    bench.touch("2026/a.jpg", {"kind": "grey"})
    before = bench.tree()
    with bench.database.begin() as session:
        library = session.get_one(Library, 1)
        library.automation = Automation.model_validate(library.automation | {"backups": False}).model_dump(
            mode="json"
        )
        bench.library = library
    with pytest.raises(Refusal, match="switch backups on"):
        bench.touch("2026/b.jpeg", {"kind": "grey"})
    with pytest.raises(Refusal, match="switch backups on"):
        bench.watermark(words="Gannet Ledge")
    items = {item.path: item for item in bench.run(level=Level.EXACT, copies=[])}
    assert (items["2026/a.jpg"].state, items["2026/a.jpg"].code) == (ItemState.PASSED, "no-backup")
    assert bench.tree()["2026/a.jpg"] == before["2026/a.jpg"]


def test_watermarks_come_and_go_and_the_unmarked_files_are_the_same_to_the_byte(bench: Bench) -> None:
    bench.save("card", width=200, copies=["webp"])
    bench.run()
    before = bench.tree()
    bench.watermark(words="Gannet Ledge", width=0.4)
    items = bench.run()
    watermarked = bench.tree()
    assert {item.path for item in items} == {
        "2026/a.jpg",
        "2026/b.jpeg",
        "2026/chart.png",
        "2026/a-card-200.jpg",
        "2026/b-card-200.jpeg",
        "2026/chart-card-200.png",
    }
    assert all(watermarked[item.path] != before[item.path] for item in items)
    assert all(item.state == ItemState.DONE for item in items)
    bench.unmark()
    bench.run()
    assert bench.tree() == before


def test_a_watermark_is_where_it_says_and_only_on_what_it_says(bench: Bench) -> None:
    bench.save("card", width=200)
    bench.run()
    plain = np.asarray(bench.image("2026/a.jpg").convert("RGB")).astype(int)
    small = bench.tree()["2026/a-card-200.jpg"]
    bench.watermark(
        picture=stamp(),
        place="top-left",
        width=0.1,
        margin=0.0,
        opacity=1.0,
        least=10,
        tone="own",
        sizes=[],
        when={"name": "a.*"},
    )
    assert [item.path for item in bench.run()] == ["2026/a.jpg"]
    after = np.asarray(bench.image("2026/a.jpg").convert("RGB")).astype(int)
    off = np.abs(after - plain).max(axis=2)
    assert off[2:12, 6:40].mean() > 60, "red in the corner"
    assert off[60:, 80:].mean() < 6
    red = after[6:12, 12:36].reshape(-1, 3).mean(axis=0)
    assert red[0] > 150 > red[1] + 60
    assert bench.tree()["2026/a-card-200.jpg"] == small
    with bench.database.begin() as session:
        assert [one.picture for one in watermarks(session, bench.library)] == [True]


def test_a_watermark_by_bytes_judges_made_files_by_what_they_are_made_of(bench: Bench) -> None:
    bench.save("card", width=200)
    bench.run()
    card = next(file for file in bench.made() if file.path == "2026/a-card-200.jpg")
    heavy = len(bench.original("2026/a.jpg"))
    assert card.size_before < heavy // 2
    bench.watermark(picture=stamp(), width=0.3, least=10, when={"name": "a*", "larger_than": heavy - 1})
    assert {item.path for item in bench.run()} == {"2026/a.jpg", "2026/a-card-200.jpg"}
    assert bench.run() == [], "and being watermarked changes nothing of that"
    bench.watermark(picture=stamp(), width=0.3, least=10, when={"name": "a*", "larger_than": heavy})
    assert {item.path for item in bench.run()} == {"2026/a.jpg", "2026/a-card-200.jpg"}
    assert bench.run() == []


def test_another_picture_of_the_watermark_makes_its_files_anew(bench: Bench) -> None:
    bench.watermark(picture=stamp(), width=0.2, least=10)
    bench.run()
    first = bench.tree()
    assert bench.run() == []
    bench.watermark(picture=stamp(80, 20), width=0.2, least=10)
    assert len(bench.run()) == 3
    assert all(first[path] != data for path, data in bench.tree().items() if path.endswith((".jpg", ".png")))


def test_a_watermark_too_small_to_be_read_is_left_out(bench: Bench) -> None:
    bench.run(copies=[])
    before = bench.tree()
    bench.watermark(words="Gannet Ledge", width=0.1, least=100)
    bench.run(copies=[])
    with bench.database.begin() as session:
        scores = session.scalars(select(File.score).where(File.path == "2026/a.jpg")).all()
    assert scores[0] is not None
    for path in before:
        plain = np.asarray(Image.open(io.BytesIO(bench.original(path))).convert("RGB")).astype(int)
        assert np.abs(np.asarray(bench.image(path).convert("RGB")).astype(int) - plain).max() < 60


@pytest.mark.parametrize(
    ("data", "words"),
    [(b"GIF89a", "cut short"), (b"not a picture", "picture"), (stamp()[:60], "does not decode to its end")],
)
def test_what_cannot_be_a_watermark_is_refused(bench: Bench, data: bytes, words: str) -> None:
    with pytest.raises(Refusal, match=words):
        bench.watermark(picture=data)


def test_a_watermark_without_transparency_and_letters_without_a_shape_are_refused(bench: Bench) -> None:
    opaque = io.BytesIO()
    Image.new("RGB", (40, 20), (9, 9, 9)).save(opaque, "PNG")
    with pytest.raises(Refusal, match="no transparency"):
        bench.watermark(picture=opaque.getvalue())
    nothing = io.BytesIO()
    Image.new("RGBA", (40, 20), (9, 9, 9, 0)).save(nothing, "PNG")
    with pytest.raises(Refusal, match="transparent all over"):
        bench.watermark(picture=nothing.getvalue())
    with pytest.raises(Refusal, match="no shape for 灯 塔"):
        bench.watermark(words="Ledge 灯塔")
    with pytest.raises(Refusal, match="no size called card"):
        bench.watermark(words="Ledge", sizes=["card"])
    assert bench.run(copies=[], level=Level.EXACT) is not None


def test_a_watermark_without_its_picture_changes_nothing(bench: Bench) -> None:
    bench.run(copies=[])
    before = bench.tree()
    bench.watermark()
    assert bench.run(copies=[]) == []
    bench.watermark(picture=stamp(), least=10)
    with bench.database.begin() as session:
        session.execute(update(WatermarkRow).values(picture=b"broken since"))
    items = bench.run(copies=[])
    assert {item.state for item in items} == {ItemState.FAILED}
    assert bench.tree() == before, "and nothing is lost"


def test_the_librarys_own_sharpening_and_quality_are_taken_back_to_the_byte(bench: Bench) -> None:
    bench.run(copies=["webp"])
    before = bench.tree()
    with bench.database.begin() as session:
        recipe = RecipeSettings.model_validate(
            {
                "copies": ["webp"],
                "fixed_quality": {"jpeg": 60, "webp": 60},
                "sharpening": {"amount": 1.5},
                "largest": {"width": 240, "height": 240},
            }
        )
        save_recipe(session, bench.library, recipe, "Rill")
    bench.run()
    changed = bench.tree()
    assert changed["2026/a.jpg"] != before["2026/a.jpg"]
    assert bench.image("2026/a.jpg").size == (240, 160)
    with bench.database.begin() as session:
        save_recipe(session, bench.library, RecipeSettings.model_validate({"copies": ["webp"]}), "Rill")
    bench.run()
    assert bench.tree() == before


def test_every_picture_sharpened_and_back_to_the_byte(bench: Bench) -> None:
    bench.save("card", width=200)
    bench.run(copies=["webp"])
    before = bench.tree()
    for settings in ({"sharpen_all": True, "sharpening": {"amount": 1.0}}, {}):
        with bench.database.begin() as session:
            recipe = RecipeSettings.model_validate({"copies": ["webp"]} | settings)
            save_recipe(session, bench.library, recipe, "Rill")
        bench.run()
        after = bench.tree()
        if settings:
            changed = {path for path in before if before[path] != after.get(path)}
            assert {"2026/a.jpg", "2026/b.jpeg", "2026/chart.png"} <= changed
            assert not [path for path in changed if "-card-" in path], "a size has its own"
    assert after == before


def test_exact_and_touched_up_is_no_original_once_its_backup_is_gone(bench: Bench) -> None:
    bench.touch("2026/chart.png", {"kind": "turn", "quarters": 1})
    bench.run(level=Level.EXACT, copies=[])
    turned = bench.tree()["2026/chart.png"]
    with bench.database.begin() as session:
        session.execute(update(File).where(File.path == "2026/chart.png").values(before_sha256=None))
    bench.save("card", width=100)
    items = {item.path: item for item in bench.run(level=Level.EXACT, copies=[], force=True)}
    for path in ("2026/chart.png", "2026/chart-card-100.png"):
        assert (items[path].state, items[path].code) == (ItemState.PASSED, "no-backup")
    assert bench.tree()["2026/chart.png"] == turned, "not turned a second time"
    assert "2026/chart-card-100.png" not in bench.tree()


def test_moving_pictures_are_not_touched_up(bench: Bench) -> None:
    frames = [Image.new("RGB", (40, 40), (9, 9 * n, 90)) for n in range(3)]
    frames[0].save(bench.root / "2026/lamp.gif", save_all=True, append_images=frames[1:], duration=90)
    bench.survey()
    with pytest.raises(Refusal, match=r"lamp\.gif moves"):
        bench.touch("2026/lamp.gif", {"kind": "grey"})
    frames[0].save(bench.root / "2026/still.gif")
    bench.survey()
    with pytest.raises(Refusal, match=r"still\.gif is a GIF"):
        bench.touch("2026/still.gif", {"kind": "grey"})
    bench.watermark(words="Gannet Ledge", least=8)
    items = {item.path: item for item in bench.run(copies=[])}
    for path in ("2026/lamp.gif", "2026/still.gif"):
        assert items[path].state in (ItemState.DONE, ItemState.PASSED)
        assert bench.image(path).format == "GIF"
