"""Weaknesses are found where they are, each by its check alone; what is around the server counts too."""

from __future__ import annotations

import os
from contextlib import closing
from pathlib import Path

import pytest

from copper_kite.net.authority import make_authority
from copper_kite.posture import RISKS, DomainReport, Surroundings, Weakness, audit_configuration, look_around
from copper_kite.posture.domain.model import Grade, Line
from copper_kite.settings import load_configuration
from copper_kite.store import FolderLock
from tests.weak import write_weak

NOW, TODAY = 1.8e9, "2026-11-29"


def audit(config: Path, *reports: DomainReport, now: float = NOW) -> list[Weakness]:
    return audit_configuration(load_configuration(config), Surroundings(), reports, now, TODAY).open


def test_all_that_is_weak_in_files_is_found_once(folder: Path) -> None:
    weak = audit(write_weak(folder))
    assert [(entry.risk, entry.of.removeprefix(f"{folder}/")) for entry in weak] == [
        ("login-in-clear", "beacon"), ("weak-ciphers", "beacon"), ("one-host", "beacon"),
        ("mail-in-clear", "second"), ("one-host", "second"), ("unverified-way", "third"), ("one-host", "third"),
        ("policy-off", "direct"), ("unsigned-way", "direct"),
        ("wide-network", "programs"), ("clear-listener", "programs"),
        ("any-sender", "ticketing"), ("no-account-allowance", "ticketing"), ("login-from-anywhere", "ticketing"),
        ("old-password-key", "ticketing"), ("no-guard", ""), ("no-alarm", ""), ("nobody-reads-root", ""),
        ("short-lifetime", ""), ("short-journal", ""), ("open-metrics", ""),
        ("readable-file", "kite.log"), ("readable-file", "queue"), ("short-key", "old._domainkey.other.example"),
        ("no-backup", ""), ("unsigned-domain", "ternferries.example"),
    ]  # fmt: skip
    assert all(entry.harm == RISKS[entry.risk] and entry.cure and entry.text for entry in weak)


def test_a_domain_that_fails_dmarc(folder: Path) -> None:
    line = Line("passes DMARC", "through beacon", Grade.WRONG, "SPF fails for 192.0.2.25")
    reports = [
        DomainReport("ternferries.example", [line]),
        DomainReport("crew.example", [line._replace(grade=Grade.GOOD)]),
    ]
    weak = [entry for entry in audit(write_weak(folder), *reports) if entry.risk == "dmarc-fails"]
    assert [(entry.of, entry.cure) for entry in weak] == [
        ("ternferries.example", "kite domain ternferries.example --records")
    ]


@pytest.mark.parametrize(("validity", "text"), [("expired", "has ended"), ("none", "")])
def test_a_certificate_of_ours_that_ends(folder: Path, validity: str, text: str) -> None:
    config = write_weak(folder)
    files = make_authority(folder / "own", ["quay1.ternferries.example"], validity)
    where = f'name = "programs"\ncertificate = "{files.certificate}"\nkey = "{files.key}"\ntls = "starttls"\n'
    config.write_text(config.read_text().replace('name = "programs"\n', where))
    weak = [entry for entry in audit(config, now=files.certificate.stat().st_mtime) if entry.risk == "certificate-ends"]
    assert [entry.text for entry in weak] == ([f"the certificate of programs {text}"] if text else [])


@pytest.mark.parametrize(("age", "text"), [(1, ""), (9, "is 9 days old"), (None, "cannot be found")])
def test_a_copy_of_the_queue_ages(folder: Path, age: int | None, text: str) -> None:
    config = write_weak(folder)
    config.write_text(config.read_text().replace("[server]\n", '[server]\nbackup = "copy"\n'))
    if age is not None:
        (folder / "copy").mkdir()
        os.utime(folder / "copy", (NOW - age * 86400, NOW - age * 86400))
    weak = {entry.risk: entry.text for entry in audit(config)}
    assert "no-backup" not in weak
    assert weak.get("old-backup", "").endswith(text)
    assert ("old-backup" in weak) is bool(text)


def test_the_running_server_is_looked_at(folder: Path) -> None:
    loaded = load_configuration(write_weak(folder))
    assert look_around(loaded).user is None
    with closing(FolderLock(loaded.data, NOW)):
        around = look_around(loaded)
    assert around.user == os.getuid()
    assert {"PATH", "HOME"} & set(around.environment)


@pytest.mark.parametrize(
    ("around", "risk"),
    [
        (Surroundings(user=0), "runs-as-root"),
        (Surroundings(user=1000, confined=False), "unconfined"),
        (Surroundings(user=1000, environment=("HOME", "SMTP_PASSWORD")), "secret-in-environment"),
        (Surroundings(python=(3, 9)), "old-software"),
        (Surroundings(openssl=(1, 1)), "old-software"),
    ],
)
def test_what_is_around_the_server(folder: Path, around: Surroundings, risk: str) -> None:
    loaded = load_configuration(write_weak(folder))

    def risks(around: Surroundings) -> set[str]:
        return {item.risk for item in audit_configuration(loaded, around, [], 1.8e9, "2026-11-29").open}

    assert risks(around) - risks(Surroundings()) == {risk}


def test_a_version_ends_some_day(folder: Path) -> None:
    loaded, around = load_configuration(write_weak(folder)), Surroundings(python=(3, 11))
    for today, old in (("2027-10-31", False), ("2027-11-01", True)):
        open_now = audit_configuration(loaded, around, [], 1.8e9, today).open
        assert any(item.risk == "old-software" for item in open_now) is old
