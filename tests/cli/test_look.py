"""How figures look in a terminal, and where the command line finds its service."""

import io
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from rich.console import Console

from plumcrate.cli import config
from plumcrate.cli.commands.common import table
from plumcrate.cli.look import duration, points, slat
from plumcrate.words import saved, size


def test_figures_have_three_significant_digits_and_say_what_they_are() -> None:
    assert [size(count) for count in (0, 999, 1000, 9_996, 99_960, 999_500, 3_250_000, None)] == [
        "0 B",
        "999 B",
        "1.00 kB",
        "10.0 kB",
        "100 kB",
        "1.00 MB",
        "3.25 MB",
        "–",
    ]
    assert [saved(*pair) for pair in ((1000, 660), (1000, 995), (1000, 1200), (1000, 1000), (0, 0))] == [
        "−34 %",
        "−0.5 %",
        "+20 %",
        "0 %",
        "–",
    ]
    assert [duration(seconds) for seconds in (5, 65, 3700, None)] == ["5 s", "1 min 05 s", "1 h 01 min", "–"]
    assert (points(79.96), points(None)) == ("80.0", "–")


@given(st.integers(0, 10**12), st.integers(0, 10**12), st.integers(1, 60), st.integers(1, 10**12))
def test_a_slat_is_as_wide_as_asked_and_never_more_filled_than_outlined(
    before: int, now: int, width: int, scale: int
) -> None:
    bar = slat(before, min(now, before), width, max(scale, before)).plain
    assert len(bar) == width
    assert bar.rstrip(" ") == bar.rstrip(" ").replace(" ", "")
    if before and now:
        assert bar[0] == "█"


def test_configuration_comes_from_the_environment_then_from_the_nearest_file(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    below = tmp_path / "a/b"
    below.mkdir(parents=True)
    monkeypatch.chdir(below)
    monkeypatch.setenv("HOME", str(tmp_path / "home"))
    for name in ("PLUMCRATE_URL", "PLUMCRATE_KEY"):
        monkeypatch.delenv(name, raising=False)
    with pytest.raises(config.ConfigError, match="PLUMCRATE_KEY"):
        config.load()
    (tmp_path / ".plumcrate.toml").write_text('url = "http://above"\nkey = "k"\n')
    assert config.load() == config.Config("http://above", "k")
    (tmp_path / "a/.plumcrate.toml").write_text('url = "http://nearer"\nkey = "k2"\n')
    assert config.load().url == "http://nearer"
    (tmp_path / "a/.plumcrate.toml").write_text("url = ")
    with pytest.raises(config.ConfigError, match="cannot be read"):
        config.load()
    (tmp_path / "a/.plumcrate.toml").write_text('url = "http://nearer"\n')
    with pytest.raises(config.ConfigError, match="both url and key"):
        config.load()


@pytest.mark.parametrize("given", ["PLUMCRATE_KEY", "PLUMCRATE_URL"])
def test_a_key_goes_only_to_the_address_it_came_with(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, given: str
) -> None:
    """A working folder that a stranger filled must not learn the key from the environment."""
    monkeypatch.chdir(tmp_path)
    (tmp_path / ".plumcrate.toml").write_text('url = "http://evil.example"\nkey = "k"\n')
    for name in ("PLUMCRATE_URL", "PLUMCRATE_KEY"):
        monkeypatch.delenv(name, raising=False)
    monkeypatch.setenv(given, "from the environment")
    with pytest.raises(config.ConfigError, match="a key goes only to the address it came with"):
        config.load()
    monkeypatch.setenv("PLUMCRATE_URL", "http://here")
    monkeypatch.setenv("PLUMCRATE_KEY", "secret")
    assert config.load() == config.Config("http://here", "secret")


def test_a_file_that_everybody_may_write_is_not_read(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    for name in ("PLUMCRATE_URL", "PLUMCRATE_KEY"):
        monkeypatch.delenv(name, raising=False)
    place = tmp_path / ".plumcrate.toml"
    place.write_text('url = "http://evil.example"\nkey = "k"\n')
    place.chmod(0o666)
    with pytest.raises(config.ConfigError, match="is not read"):
        config.load()


def test_names_are_shown_and_never_obeyed_by_the_terminal() -> None:
    out = io.StringIO()
    console = Console(file=out, markup=False, emoji=False, width=120)
    console.print(table(("path",), [("[red]evil[/red] :bomb: \x1b[2J\x9b31m.jpg",)]))
    assert "[red]evil[/red] :bomb: \\x1b[2J\\x9b31m.jpg" in out.getvalue()
    assert "\x1b" not in out.getvalue()
