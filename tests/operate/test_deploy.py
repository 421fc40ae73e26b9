"""The files that an operator starts from, read by the programs that they are for."""

import re
import shutil
import subprocess
import tomllib
from pathlib import Path

import pytest

from plumcrate.records.private import free_port
from plumcrate.settings import Settings, WrongSettings, in_file

DEPLOY = Path(__file__).parents[2] / "deploy"


def test_every_line_of_the_settings_is_a_setting(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    text = (DEPLOY / "settings.toml").read_text()
    uncommented = re.sub(r"^# (?=[a-z_]+ = )", "", text, flags=re.M)
    values = tomllib.loads(uncommented)
    assert {"state_dir", "database_url", "address", "trusted_proxies"} <= values.keys()
    place = tmp_path / "settings.toml"
    place.write_text(uncommented)
    monkeypatch.setenv("PLUMCRATE_SETTINGS", str(place))
    assert Settings(**in_file()).secure_cookies is True
    place.write_text(uncommented + "\nfoo = 1\n")
    with pytest.raises(WrongSettings, match="no setting foo"):
        in_file()


@pytest.mark.skipif(not Path("/usr/sbin/nginx").exists(), reason="no nginx here")
def test_the_proxy_s_configuration_is_one(tmp_path: Path) -> None:
    site = (DEPLOY / "proxy/nginx.conf").read_text()
    plain = re.sub(r"^\s*ssl_certificate.*$", "", site, flags=re.M)
    plain = plain.replace("listen 443 ssl;", f"listen 127.0.0.1:{free_port()};")
    (tmp_path / "nginx.conf").write_text(
        f"pid {tmp_path}/pid;\nerror_log stderr;\nevents {{}}\nhttp {{ access_log off; {plain} }}\n"
    )
    done = subprocess.run(
        ["/usr/sbin/nginx", "-t", "-p", str(tmp_path), "-c", str(tmp_path / "nginx.conf")],
        capture_output=True,
        text=True,
        timeout=30,
        check=False,
    )
    assert done.returncode == 0, done.stderr
    assert "proxy_buffering off" in plain, "event streams are not held back"


@pytest.mark.skipif(shutil.which("systemd-analyze") is None, reason="no systemd here")
@pytest.mark.parametrize("name", ["records", "service", "worker"])
def test_the_units_are_understood(tmp_path: Path, name: str) -> None:
    unit = (DEPLOY / f"systemd/plumcrate-{name}.service").read_text()
    assert f"start --only {name}" in unit
    hard = ("ProtectSystem=strict", "NoNewPrivileges=true", "User=plumcrate", "CapabilityBoundingSet=\n")
    assert [word for word in hard if word not in unit] == []
    place = tmp_path / f"plumcrate-{name}.service"
    plain = re.sub(r"ExecStart=\S+", "ExecStart=/bin/true", unit)
    place.write_text(re.sub(r"^(User|Group)=plumcrate$", r"\1=daemon", plain, flags=re.M))
    done = subprocess.run(
        ["systemd-analyze", "verify", "--man=no", str(place)],
        capture_output=True,
        text=True,
        timeout=60,
        check=False,
    )
    ours = [line for line in done.stderr.splitlines() if place.name in line]
    assert not ours, done.stderr


def test_the_container_s_files_say_what_the_program_does() -> None:
    said = (DEPLOY / "container/Containerfile").read_text() + (DEPLOY / "container/compose.yaml").read_text()
    for word in ("plumcrate[", '"start", "--only", "service"', '"start", "--only", "worker"'):
        assert word.replace("plumcrate[", "[server,cli]") in said
    assert "PASSWORD:-" not in said, "there is no usual password"
