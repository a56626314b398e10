"""`kite check` beyond syntax: each fault by its level, its line and what to do."""

from __future__ import annotations

import datetime
from pathlib import Path

import pytest

from copper_kite.errors import Finding
from copper_kite.posture.check import check_file

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
        ('["127.0.0.0/8"]', '["8.8.8.0/24"]', "warning", 10, "not a private network"),
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
    found = checked(folder, GOOD.replace(old, new, 1))
    fitting = [finding for finding in found if words in finding.problem]
    assert [(finding.level, finding.line) for finding in fitting] == [(level, line)], found
    assert fitting[0].why


def test_faults_of_both_kinds_come_at_once(folder: Path) -> None:
    text = GOOD.replace('"5d"', '"soon"').replace('["127.0.0.0/8"]', '["0.0.0.0/0"]')
    assert [finding.line for finding in checked(folder, text)] == [10, 16]


def test_secrets_and_folders(folder: Path) -> None:
    secrets = folder / "credentials.toml"
    secrets.write_text('[beacon]\nlogin = "a"\npassword = "b"\n')
    secrets.chmod(0o600)
    (folder / "queue").mkdir(mode=0o755)
    found = checked(folder, GOOD)
    assert [(f.level, Path(f.file).name, f.line) for f in found] == [
        ("remark", "credentials.toml", 1), ("warning", "kite.toml", 3)
    ]  # fmt: skip
    assert "chmod 711" in found[1].remedy


def test_an_authority_that_ends(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from copper_kite.net.authority import make_authority

    files = make_authority(folder / "tls", ["x.example"])
    text = GOOD.replace('recipients = ["*"]', f'trust = "{files.authority}"')
    (folder / "kite.toml").write_text(text)
    made = datetime.datetime.now(datetime.UTC)
    for days, level in ((0, None), (350, "warning"), (400, "error")):
        at = (made + datetime.timedelta(days=days)).timestamp()
        found = check_file(folder / "kite.toml", at)[1]
        assert [finding.level for finding in found] == ([level] if level else [])
    files.authority.write_text("no certificate")
    assert "no certificate in PEM form" in check_file(folder / "kite.toml", NOW)[1][0].problem


def test_logs_that_cannot_be_looked_in(folder: Path) -> None:
    """A file that is not there, a map that is not, and one with a mistake: each told; a shipped map is none of these."""
    other = '[[other_log]]\nname = "{0}"\nfiles = ["{0}.log*"]\n'
    (folder / "here.log.1").write_text("x\n")
    (folder / "bad.toml").write_text("[patterns]\nid = 'no group'\n")
    text = GOOD + other.format("here") + 'map = "kite"\n' + other.format("gone") + 'map = "none.toml"\n'
    text += other.format("here") + 'map = "bad.toml"\n'
    found = {(finding.level, finding.key, finding.problem) for finding in checked(folder, text)}
    assert found == {
        ("warning", "other_log[2].files", "there is no such file"),
        ("error", "other_log[2].map", "cannot be read (No such file or directory)"),
        ("error", "other_log[3].map", "has no group"),
    }
