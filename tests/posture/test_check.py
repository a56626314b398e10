"""`kite check` beyond syntax: each fault by its level, its line and what to do."""

from __future__ import annotations

import contextlib
import datetime
import errno
import io
import os
import time
from pathlib import Path
from typing import Any

import pytest

from copper_kite.cli.main import run_command_line
from copper_kite.errors import Finding
from copper_kite.posture.check import check_file
from copper_kite.settings.load import load_configuration
from copper_kite.settings.service_units import service_unit
from tests.support import free_port, kite, write_site

NOW = datetime.datetime(2026, 5, 4, 9, tzinfo=datetime.UTC).timestamp()
GOOD = """\
[server]
name = "quay1.ternferries.example"
data = "queue"
[identity]
domain = "ternferries.example"
recipients = { root = "duty@crew.example" }
[[listener]]
name = "programs"
bind = ["127.0.0.1:2525"]
allow = ["127.0.0.0/8"]
[[connector]]
name = "beacon"
hosts = ["out.beaconpost.example"]
recipients = ["*"]
[retry]
lifetime = "5d"
waits = ["1m"]
"""
SECOND = '[[connector]]\nname = "second"\nhosts = ["b.example"]\n'


def checked(folder: Path, text: str) -> list[Finding]:
    (folder / "kite.toml").write_text(text)
    return check_file(folder / "kite.toml", NOW)[1]


def test_nothing_to_find(folder: Path) -> None:
    assert checked(folder, GOOD) == []


@pytest.mark.parametrize(
    ("old", "new", "level", "line", "words"),
    [
        ('recipients = ["*"]', 'recipients = ["a.example"]', "warning", 11, "only mail for a.example has a connector"),
        ("[[connector]]", "[[connector]]\nenabled = false", "warning", 11, "only mail for nobody"),
        ("[retry]", SECOND + "[retry]", "warning", 16, "second and beacon both take * with preference 20"),
        ('recipients = ["*"]', 'tls = "off"', "warning", 14, "sends mail in clear"),
        ('["127.0.0.0/8"]', '["0.0.0.0/0"]', "error", 10, "an open relay"),
        ('["127.0.0.0/8"]', '["50.60.70.0/24"]', "warning", 10, "not a private network"),
        ('["127.0.0.1:2525"]\nallow = ["127.0.0.0/8"]', '["0.0.0.0:2525"]', "remark", 9, "none may use it"),
        ("[[connector]]", '[[listener]]\nname = "b"\nbind = ["127.0.0.1:2525"]\n[[connector]]', "error", 13, "too"),
        ('domain = "ternferries.example"\n', "", "warning", 4, "bare names cannot be completed"),
        ('"duty@crew.example"', '"root@quay1.ternferries.example"', "error", 6, "own name"),
        ('recipients = { root = "duty@crew.example" }', "", "remark", 4, "nobody is named for mail to root"),
        ('"5d"', '"10m"', "warning", 16, "very short"),
        ('["1m"]', '["9d"]', "error", 17, "longer than the lifetime"),
        ('["1m"]', '["soon"]', "error", 17, "not a duration"),
        ("[[connector]]", "[[conector]]", "error", 11, "unknown key"),
    ],
)
def test_each_fault(folder: Path, old: str, new: str, level: str, line: int, words: str) -> None:
    result = checked(folder, GOOD.replace(old, new, 1))
    fitting = [finding for finding in result if words in finding.problem]
    assert [(finding.level, finding.line) for finding in fitting] == [(level, line)], result
    assert fitting[0].why


ALARM = '[[alarm]]\nname = "failing"\nwhen = "connector_failing"\nto = "duty@crew.example"\n'


def test_an_alarm_about_connectors_that_goes_by_the_only_usual_one(folder: Path) -> None:
    assert checked(folder, GOOD + ALARM) == []  # there is no other one
    two = GOOD + SECOND + 'recipients = ["second.example"]\n' + ALARM
    (result,) = (finding for finding in checked(folder, two) if finding.key.startswith("alarm"))
    assert (result.level, result.key) == ("remark", "alarm[1]") and "goes by beacon, too" in result.problem
    assert result.remedy == "kite alarm set failing connector=second"
    assert not [finding for finding in checked(folder, two + 'connector = "second"\n') if "alarm" in finding.key]


def test_a_report_without_what_draws_it(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    text = GOOD + '[report]\nto = "duty@crew.example"\n'
    assert checked(folder, text) == []
    monkeypatch.setattr("copper_kite.posture.check.find_spec", lambda name: None if name == "jinja2" else name)
    (result,) = checked(folder, text)
    assert (result.level, result.problem) == ("error", "jinja2 is missing") and "copper-kite[report]" in result.remedy


def test_faults_of_both_kinds_come_at_once(folder: Path) -> None:
    text = GOOD.replace('"5d"', '"soon"').replace('["127.0.0.0/8"]', '["0.0.0.0/0"]')
    assert [finding.line for finding in checked(folder, text)] == [10, 16]


def test_secrets_and_folders(folder: Path) -> None:
    secrets = folder / "credentials.toml"
    secrets.write_text('[beacon]\nlogin = "a"\npassword = "b"\n')
    secrets.chmod(0o600)
    (folder / "queue").mkdir(mode=0o755)
    result = checked(folder, GOOD)
    assert [(f.level, Path(f.file).name, f.line) for f in result] == [
        ("remark", "credentials.toml", 1), ("warning", "kite.toml", 3)
    ]  # fmt: skip
    assert "chmod 711" in result[1].remedy


def test_an_authority_that_ends(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from copper_kite.net.authority import make_authority

    files = make_authority(folder / "tls", ["x.example"])
    text = GOOD.replace('recipients = ["*"]', f'trust = "{files.authority}"')
    (folder / "kite.toml").write_text(text)
    made = datetime.datetime.now(datetime.UTC)
    for days, level in ((0, None), (350, "warning"), (400, "error")):
        at = (made + datetime.timedelta(days=days)).timestamp()
        result = check_file(folder / "kite.toml", at)[1]
        assert [finding.level for finding in result] == ([level] if level else [])
    files.authority.write_text("no certificate")
    assert "no certificate in PEM form" in check_file(folder / "kite.toml", NOW)[1][0].problem


def test_logs_that_cannot_be_looked_in(folder: Path) -> None:
    """A file that is not there, a map that is not, and one with a mistake: each told; a shipped map is none of these."""
    other = '[[other_log]]\nname = "{0}"\nfiles = ["{0}.log*"]\n'
    (folder / "here.log.1").write_text("x\n")
    (folder / "bad.toml").write_text("[patterns]\nid = 'no group'\n")
    text = GOOD + other.format("here") + 'map = "kite"\n' + other.format("gone") + 'map = "none.toml"\n'
    text += other.format("here") + 'map = "bad.toml"\n'
    result = {(finding.level, finding.key, finding.problem) for finding in checked(folder, text)}
    assert result == {
        ("warning", "other_log[2].files", "there is no such file"),
        ("error", "other_log[2].map", "cannot be read (No such file or directory)"),
        ("error", "other_log[3].map", "has no group"),
    }


def test_a_disk_with_less_than_is_to_stay_free(folder: Path) -> None:
    """`check` calls it an error, `status` shows it and ends with 1; a change of something else is not kept from it."""
    config = write_site(folder, 2525, tls="off")
    text = config.read_text()
    config.write_text(text.replace("[server]\n", '[server]\nkeep_free = "1000000GiB"\n'))
    result = [finding for finding in check_file(config, time.time())[1] if finding.key == "server.keep_free"]
    assert [finding.level for finding in result] == ["error"] and "MiB left" in result[0].problem
    (folder / "queue").mkdir()
    shown = kite("status", config=config)
    assert shown.returncode == 1 and b"nothing is taken in" in b" ".join(shown.stdout.split())
    assert kite("connector", "set", "beacon", "sessions=3", config=config).returncode == 0


def test_an_open_relay_is_refused_everywhere_unless_it_is_meant(folder: Path) -> None:
    """By the command that would make it, by check, by a server; `--anyway` writes it, and no server goes by it."""
    config = write_site(folder, 2525, tls="off")
    before = config.read_text()
    words = ("listener", "add", "open", f"bind=127.0.0.1:{free_port()}")
    for everybody in ("0.0.0.0/0", "0.0.0.0/1", "::/0"):
        done = kite(*words, f"allow={everybody}", config=config)
        assert done.returncode == 3 and b"an open relay" in done.stderr and config.read_text() == before, everybody
    done = kite(*words, "allow=0.0.0.0/0", "--anyway", config=config)
    assert done.returncode == 1 and b"no server can go by it" in done.stdout and config.read_text() != before
    assert kite("serve", config=config).returncode == 3
    assert kite("listener", "set", "open", "open_relay=yes, I mean it", config=config).returncode == 0
    meant = [finding.level for finding in check_file(config, time.time())[1] if "an open relay" in finding.problem]
    assert meant == ["warning"]


def test_a_change_that_check_calls_an_error_is_refused(folder: Path) -> None:
    """Also one that could be written: the last connector removed; what was wrong before does not count again."""
    config = write_site(folder, 2525, tls="off")
    done = kite("connector", "remove", "beacon", "--yes", config=config)
    assert done.returncode == 3 and b"there is no connector" in done.stderr and b"--anyway" in done.stderr
    assert kite("connector", "remove", "beacon", "--yes", "--anyway", config=config).returncode == 0
    assert kite("config", "set", "retry", "lifetime=3d", "waits=1m,5m", config=config).returncode == 0
    assert 'waits = ["1m", "5m"]' in config.read_text() and 'lifetime = "3d"' in config.read_text()
    assert kite("config", "set", "guard", "surge=4", config=config).returncode == 0 and "[guard]" in config.read_text()
    refused = kite("config", "set", "retry", "waits=0s", config=config)
    assert refused.returncode == 3 and b"a wait is no time at all" in refused.stderr


@pytest.mark.parametrize("name", ["credentials.toml", "ca.pem", "queue.sqlite"])
def test_a_file_that_this_user_may_not_read(folder: Path, name: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """One message and exit 3, and no finding that is not true."""
    (folder / "ca.pem").write_text("")
    config = write_site(folder, 2525)
    (folder / "queue").mkdir()
    real = os.stat

    def stat(path: Any, *rest: Any, **more: Any) -> os.stat_result:
        if str(path).endswith(name):
            raise PermissionError(errno.EACCES, "Permission denied", str(path))
        return real(path, *rest, **more)

    monkeypatch.setattr(os, "stat", stat)
    words = ["queue", "list"] if name == "queue.sqlite" else ["check"]
    shown = io.StringIO()
    with contextlib.redirect_stderr(shown), pytest.raises(SystemExit) as ended:
        run_command_line(["--config", str(config), *words])
    assert ended.value.code == 3 and shown.getvalue().endswith("run as the server's user, or as root\n")
    assert shown.getvalue().count("\n") == 1 and name in shown.getvalue()


def test_the_unit_lets_the_server_write_its_log(folder: Path) -> None:
    config = write_site(folder, 2525, tls="off")
    for to, line in (("file:/srv/logs/kite.log", "ReadWritePaths=/srv/logs"),
                     ("file:/var/log/copper-kite/kite.log", "LogsDirectory=copper-kite"), ("file:queue/x.log", "")):  # fmt: skip
        config.write_text(write_site(folder, 2525, tls="off").read_text() + f'[log]\nto = "{to}"\n')
        unit = service_unit(load_configuration(config), ["/usr/bin/kite"])
        assert not line or f"\n{line}\n" in unit
        assert unit.count("LogsDirectory") + unit.count("ReadWritePaths=/srv") == bool(line)
