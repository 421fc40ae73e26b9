"""From passes to a reading, from a reading to findings and budgets."""

from __future__ import annotations

from typing import Any

import pytest

from plumcrate.contract.weighing import Box, Budget, Device, Line, Processor, Reading, SeenQuality
from plumcrate.pages.budgets import over
from plumcrate.pages.findings import AvailableSize, FindingContext, OnRecord, findings_of, place_of
from plumcrate.pages.page_reading import kinds_of, reading_of, spread_of
from plumcrate.pages.traffic import VisitTraffic

SITE = "https://ledge.example"


def exchange(address: str, kind: str = "pictures", size: int = 50_000, **more: Any) -> dict[str, Any]:
    return {
        "id": address,
        "address": address,
        "asked": address,
        "kind": kind,
        "first": True,
        "status": 200,
        "media_type": "image/jpeg",
        "bytes": size,
        "server": "",
        "ended": True,
        "failed": None,
        "begun": 0.2,
        "varies": "",
    } | more


def place(address: str, **more: Any) -> dict[str, Any]:
    return {
        "address": address,
        "how": "img",
        "box": {"left": 0, "top": 100, "width": 400, "height": 300},
        "natural": [800, 600],
        "drawn": [400, 300],
        "lazy": False,
        "stated": True,
        "shown": True,
        "preloaded": False,
    } | more


def outcome(
    exchanges: list[dict[str, Any]], pictures: list[dict[str, Any]] | None = None, **times: Any
) -> dict[str, Any]:
    measured = {"ttfb": 100, "fcp": 200, "lcp": 900, "cls": 0.0, "load": 1_000, "largest": None}
    return {
        "landed": f"{SITE}/",
        "status": 200,
        "times": measured | times,
        "notes": [],
        "exchanges": exchanges,
        "page": {"width": 1366, "height": 4000, "frames": 0, "password": False, "pictures": pictures or []},
    }


def reading(pictures: list[dict[str, Any]], exchanges: list[dict[str, Any]], **times: Any) -> Reading:
    device = times.pop("device", Device.DESKTOP)
    document = exchange(f"{SITE}/", "page", 4_000, media_type="text/html")
    return reading_of(
        [outcome([document, *exchanges], pictures, **times)], device, Line.HOME, Processor.QUICK
    )


def ground(records: dict[int, OnRecord] | None = None, **more: Any) -> FindingContext:
    values: dict[str, Any] = {"begun": {}, "varies": {}, "failed": {}, "expected": 0.5}
    return FindingContext(records=records or {}, **(values | more))


def record(**more: Any) -> OnRecord:
    values: dict[str, Any] = {
        "path": "a.jpg",
        "picture_id": 1,
        "bytes_now": 50_000,
        "untreated": False,
        "lightest": None,
    }
    return OnRecord(**(values | more))


def codes(found: Reading, known: FindingContext) -> list[str]:
    return [finding.code for finding in findings_of(found, known)]


# -- readings --------------------------------------------------------------------------------------


def test_medians_are_of_the_measured_passes_alone() -> None:
    page = exchange(f"{SITE}/", "page", 1_000)
    looked = outcome([page], lcp=9_999)
    passes = [
        outcome([page, exchange("x", size=size)], lcp=lcp) for size, lcp in ((10, 500), (30, 900), (20, 700))
    ]
    found = reading_of([looked, *passes], Device.PHONE, Line.MOBILE, Processor.SLOW)
    assert found.passes == 3
    assert found.lcp is not None
    assert (found.lcp.low, found.lcp.median, found.lcp.high) == (0.5, 0.7, 0.9)
    assert (found.bytes.low, found.bytes.median, found.bytes.high) == (1_010, 1_020, 1_030)


def test_what_was_never_measured_is_not_told() -> None:
    assert spread_of([None, None]) is None
    found = reading([], [], lcp=None)
    assert found.lcp is None
    assert found.fcp is not None


def test_kinds_are_in_their_order_and_only_those_there_are() -> None:
    rows = [exchange("s", "scripts", 5), exchange("p"), exchange("q"), exchange("o", "other", 1)]
    assert [(kind.name, kind.requests, kind.bytes) for kind in kinds_of(rows)] == [
        ("pictures", 2, 100_000),
        ("scripts", 1, 5),
        ("other", 1, 1),
    ]


def test_a_place_needs_pixels_by_the_density_of_its_screen() -> None:
    on_phone = reading([place("a")], [exchange("a")], device=Device.PHONE).pictures[0]
    assert (on_phone.needed_width, on_phone.needed_height) == (1_200, 900)
    on_desk = reading([place("a")], [exchange("a")]).pictures[0]
    assert (on_desk.needed_width, on_desk.needed_height, on_desk.excess) == (400, 300, 4.0)


def test_a_picture_says_where_it_is() -> None:
    below = place("b", box={"left": 0, "top": 900, "width": 10, "height": 10})
    beside = place("c", box={"left": -500, "top": 10, "width": 400, "height": 10})
    hidden = place("d", shown=False)
    found = reading([place("a"), below, beside, hidden], [exchange("a")]).pictures
    assert [one.first_view for one in found] == [True, False, False, False]
    assert found[3].needed_width == 0
    assert [one.bytes for one in found] == [50_000, 0, 0, 0]


def test_the_largest_paint_is_that_of_the_measured_pass_and_one_place_has_it() -> None:
    largest = {"address": "a", "tag": "img", "words": ""}
    found = reading([place("b"), place("a"), place("a")], [exchange("a")], largest=largest)
    assert [one.largest_paint for one in found.pictures] == [False, True, False]
    words = {"address": "", "tag": "h1", "words": "Gannet Ledge"}
    assert reading([], [], largest=words).largest_paint == "h1: “Gannet Ledge”"


# -- what was asked for ------------------------------------------------------------------------------


def sent(number: str, address: str, **more: Any) -> dict[str, Any]:
    return {"requestId": number, "request": {"url": address}, "type": "Image", "timestamp": 10.0} | more


def test_a_ledger_follows_an_exchange_from_its_begin_to_its_end() -> None:
    ledger = VisitTraffic(10)
    ledger.sent(sent("1", "https://x/a", type="Document", timestamp=10.0))
    ledger.sent(sent("2", "https://x/b.png", timestamp=10.5))
    assert ledger.in_flight == 2
    ledger.answered(
        {
            "requestId": "2",
            "response": {"status": 200, "mimeType": "image/png", "headers": {"Vary": "Accept"}},
        }
    )
    ledger.received({"requestId": "2", "encodedDataLength": 700})
    assert ledger.exchanges[1].bytes == 700
    ledger.finished({"requestId": "2", "encodedDataLength": 900})
    ledger.failed({"requestId": "1", "errorText": "net::ERR_FAILED"})
    one, two = ledger.exchanges
    assert (two.bytes, two.kind, two.varies, two.begun) == (900, "pictures", "Accept", 0.5)
    assert one.failed
    assert ledger.in_flight == 0


def test_what_is_sent_on_counts_both_answers_and_keeps_what_was_asked() -> None:
    ledger = VisitTraffic(10)
    ledger.sent(sent("1", "https://x/old.png"))
    ledger.sent(sent("1", "https://x/new.jpg", redirectResponse={"status": 302, "encodedDataLength": 300}))
    ledger.finished({"requestId": "1", "encodedDataLength": 5_000})
    assert [(one.asked, one.bytes, one.status) for one in ledger.exchanges] == [
        ("https://x/old.png", 300, 302),
        ("https://x/old.png", 5_000, 0),
    ]
    assert ledger.in_flight == 0


def test_data_addresses_and_the_browsers_own_wishes_are_no_exchanges() -> None:
    ledger = VisitTraffic(10)
    ledger.sent(sent("1", "data:image/png;base64,AAAA"))
    ledger.sent(sent("2", "https://x/favicon.ico", type="Other", initiator={"type": "other"}))
    assert ledger.exchanges == []


def test_a_ledger_holds_only_so_many() -> None:
    ledger = VisitTraffic(3)
    for number in range(5):
        ledger.sent(sent(str(number), f"https://x/{number}"))
    assert len(ledger.exchanges) == 3
    assert ledger.too_many


# -- findings --------------------------------------------------------------------------------------


def test_a_picture_far_larger_than_its_place_is_found_with_the_size_that_would_do() -> None:
    sizes = (
        AvailableSize("a.jpg", 800, 600, 50_000),
        AvailableSize("a-400w.jpg", 400, 300, 9_000),
        AvailableSize("a-200w.jpg", 200, 150, 3_000),
    )
    found = findings_of(reading([place("a")], [exchange("a")]), ground({1: record(sizes=sizes)}))
    assert [one.code for one in found] == ["too-large"]
    assert "4.0 times the pixels" in found[0].text
    assert "a-400w.jpg (400 × 300), which is there" in found[0].action
    assert found[0].bytes == 41_000
    bare = findings_of(reading([place("a")], [exchange("a")]), ground())
    assert "Make a size of 400 × 300" in bare[0].action
    assert bare[0].bytes == 33_750


@pytest.mark.parametrize(
    "changes", [{"natural": [500, 375]}, {"shown": False}, {"natural": [0, 0]}, {"natural": [400, 300]}]
)
def test_what_fits_its_place_is_not_found(changes: dict[str, Any]) -> None:
    assert codes(reading([place("a", **changes)], [exchange("a")]), ground()) == []


def test_a_drawing_of_lines_is_never_too_large() -> None:
    found = reading([place("a")], [exchange("a", media_type="image/svg+xml")])
    assert codes(found, ground()) == []


def test_copies_that_stand_there_and_were_not_served_are_found_with_why() -> None:
    small = {"natural": [400, 300]}
    known = {1: record(lightest=("avif", 20_000)), 2: record(picture_id=2, lightest=("avif", 10_000))}
    rows = [exchange("a"), exchange("b")]
    (found,) = findings_of(reading([place("a", **small), place("b", **small)], rows), ground(known))
    assert (found.code, found.pictures, found.bytes) == ("not-served", [1, 2], 70_000)
    assert "does not negotiate" in found.text
    (in_picture,) = findings_of(reading([place("a", how="picture", **small)], rows), ground(known))
    assert "own <picture>" in in_picture.text
    (in_style,) = findings_of(reading([place("a", how="background", **small)], rows), ground(known))
    assert "a style names" in in_style.text
    (chosen,) = findings_of(reading([place("a", **small)], rows), ground(known, varies={"a": "Accept"}))
    assert "negotiates, and chose the file" in chosen.text
    modern = [exchange("a", media_type="image/avif")]
    assert codes(reading([place("a", **small)], modern), ground(known)) == []


def test_what_was_not_treated_is_told_together_with_what_may_be_won() -> None:
    small = {"natural": [400, 300]}
    known = {1: record(untreated=True), 2: record(picture_id=2, untreated=True)}
    places = [place("a", **small), place("b", **small)]
    (found,) = findings_of(reading(places, [exchange("a"), exchange("b")]), ground(known, expected=0.3))
    assert (found.code, found.bytes) == ("untreated", 70_000)


def test_the_largest_paint_must_not_come_late() -> None:
    largest = {"address": "a", "tag": "img", "words": ""}
    small = {"natural": [400, 300]}
    lazy = reading([place("a", lazy=True, **small)], [exchange("a")], largest=largest)
    (found,) = findings_of(lazy, ground(begun={"a": 0.9}))
    assert (found.code, found.seconds) == ("lazy-largest", 0.8)
    hidden_in_style = reading([place("a", **small)], [exchange("a")], largest=largest)
    assert codes(hidden_in_style, ground(begun={"a": 0.9})) == ["late-largest"]
    assert codes(hidden_in_style, ground(begun={"a": 0.3})) == []


def test_pictures_far_below_should_wait() -> None:
    far = {"box": {"left": 0, "top": 3_000, "width": 400, "height": 300}, "natural": [400, 300]}
    (found,) = findings_of(
        reading([place("a", **far), place("b", **far)], [exchange("a"), exchange("b")]), ground()
    )
    assert (found.code, found.pictures, found.bytes) == ("eager-below", [1, 2], 100_000)
    assert codes(reading([place("a", lazy=True, **far)], [exchange("a")]), ground()) == []
    # One that is shown at the top as well has to come at once.
    both = [place("a", natural=[400, 300]), place("a", **far)]
    assert codes(reading(both, [exchange("a")]), ground()) == []


def test_sizes_that_are_not_stated_are_found_and_say_how_far_the_page_jumps() -> None:
    loose = place("a", stated=False, natural=[400, 300])
    (found,) = findings_of(reading([loose], [exchange("a")], cls=0.25), ground())
    assert found.code == "no-size"
    assert "jumps by 0.25" in found.text
    assert (found.jump, found.seconds) == (0.25, 0.0)
    (calm,) = findings_of(reading([loose], [exchange("a")]), ground())
    assert "jumps by" not in calm.text


def test_one_picture_in_several_sizes_is_found() -> None:
    places = [place("a", natural=[400, 300]), place("b", natural=[200, 150], drawn=[200, 150])]
    known = {1: record(), 2: record()}
    (found,) = findings_of(reading(places, [exchange("a"), exchange("b", size=9_000)]), ground(known))
    assert (found.code, found.bytes, found.pictures) == ("several-sizes", 9_000, [1, 2])


def test_bytes_that_are_nobodys_of_ours_are_told() -> None:
    known = {1: record(foreign=True)}
    (found,) = findings_of(reading([place("a", natural=[400, 300])], [exchange("a")]), ground(known))
    assert found.code == "other-hand"


def test_what_did_not_come_is_told_and_nothing_else_of_it() -> None:
    found = findings_of(reading([place("a")], [exchange("a")]), ground(failed={"a": "the site answers 404"}))
    assert [(one.code, "404" in one.text) for one in found] == [("broken", True)]
    loose = reading([place("a", stated=False)], [exchange("a")])
    assert codes(loose, ground(failed={"a": "the site answers 404"})) == ["broken"], (
        "of its size nothing is said"
    )


def test_what_looks_soft_says_whether_it_is_too_small_or_lost_too_much() -> None:
    small = reading([place("a", natural=[200, 150])], [exchange("a")])
    small.pictures[0].seen = SeenQuality(score=31.0, worst=10.0, left=0.5, top=0.5)
    (found,) = findings_of(small, ground())
    assert found.code == "soft"
    assert "2.0 times larger than its file" in found.text
    lost = reading([place("a", natural=[400, 300])], [exchange("a")])
    lost.pictures[0].seen = SeenQuality(score=31.0, worst=10.0, left=0.5, top=0.5)
    (found,) = findings_of(lost, ground())
    assert "lost too much" in found.text
    lost.pictures[0].seen = SeenQuality(score=72.0, worst=60.0, left=0.5, top=0.5)
    assert codes(lost, ground()) == []


def test_the_worst_comes_first() -> None:
    places = [place("a", natural=[1_000, 750]), place("b"), place("c", stated=False, natural=[400, 300])]
    rows = [exchange("a", size=900_000), exchange("b", size=20_000), exchange("c")]
    assert codes(reading(places, rows), ground()) == ["too-large", "too-large", "no-size"]
    first = findings_of(reading(places, rows), ground())[0]
    assert first.pictures == [1]


# -- budgets ---------------------------------------------------------------------------------------


def test_a_budget_is_kept_or_says_by_how_much_it_is_not() -> None:
    found = reading([place("a")], [exchange("a")])
    kept = Budget(bytes=54_000, pictures=50_000, requests=2, lcp=0.9, fcp=0.2, cls=0.0, load=1.0)
    assert over(kept, [found]) == []
    broken = over(Budget(bytes=53_999, pictures=49_999, requests=1, lcp=0.899), [found])
    assert [(one.name, one.found) for one in broken] == [
        ("bytes", 54_000),
        ("pictures", 50_000),
        ("requests", 2),
        ("lcp", 0.9),
    ]
    assert over(None, [found]) == []


def test_what_could_not_be_measured_does_not_pass_by_chance() -> None:
    (one,) = over(Budget(lcp=99.0), [reading([], [], lcp=None)])
    assert one.found is None


@pytest.mark.parametrize(
    ("box", "needed", "seen"),
    [
        ((400, 300), (400, 300), (400, 300)),
        ((520, 390), (585, 390), (520, 390)),
        ((520, 390), (520, 700), (520, 390)),
        ((260, 195), (1170, 780), (1040, 780)),
        ((400, 0), (400, 300), (400, 300)),
    ],
)
def test_a_place_that_cuts_its_picture_needs_what_is_seen_of_it(
    box: tuple[int, int], needed: tuple[int, int], seen: tuple[int, int]
) -> None:
    one = (
        reading([place("a")], [])
        .pictures[0]
        .model_copy(
            update={
                "needed_width": needed[0],
                "needed_height": needed[1],
                "box": Box(left=0, top=0, width=box[0], height=box[1]),
            }
        )
    )
    assert place_of(one) == seen


def test_a_cut_size_that_fits_the_place_is_named() -> None:
    cut = (AvailableSize("a.jpg", 2400, 1600, 900_000), AvailableSize("a-card-520.jpg", 520, 390, 20_000))
    page = reading([place("a", natural=[2400, 1600])], [exchange("a")])
    page.pictures[0].needed_width, page.pictures[0].needed_height = 585, 390
    page.pictures[0].box = Box(left=0, top=0, width=520, height=390)
    (found,) = findings_of(page, ground({1: record(sizes=cut)}))
    assert "a-card-520.jpg (520 × 390), which is there" in found.action
