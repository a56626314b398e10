"""`kite audit`: what is weak is found, each cure works as it is printed, and what is meant can be accepted."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

import pytest

from copper_kite.posture import RISKS, Surroundings, audit_configuration
from copper_kite.settings import load_configuration
from copper_kite.smtp import Secret
from copper_kite.smtp.sasl.scram_keys import ScramKey
from tests.cli.test_domain import ZONE
from tests.configuration import connector, site_text, table
from tests.support import environment, kite

WEAK = (
    table("[[account]]", name="ticketing"),
    table("[[account]]", name="rota", senders=["rota@ternferries.example"], allowance=["10/day"], networks=["10.1.2.0/24"]),
    connector("beacon", "out.beaconpost.example", tls="starttls", credential="beacon", login_in_clear=True,
              ciphers="AES128-SHA:ECDHE-RSA-AES128-GCM-SHA256"),
    connector("second", "out.second.example", tls="off", recipients=["second.example"]),
    connector("third", "out.third.example", tls="opportunistic", recipients=["third.example"]),
    connector("direct", mx=True, tls="opportunistic", policy="off", sign=False, recipients=["crew.example"]),
    table("[[signing]]", domain="other.example", selector="old", key="old.pem"),
    table("[retry]", lifetime="6h"),
    table("[journal]", keep="1d"),
    table("[log]", to="file:kite.log"),
    table("[metrics]", bind="0.0.0.0:9587", allow=["0.0.0.0/0"]),
)  # fmt: skip


def write_weak(folder: Path) -> Path:
    """A configuration with all that can be weak in files."""
    config = folder / "kite.toml"
    config.write_text(site_text(*WEAK, bind=["0.0.0.0:2525"], server={"dns": "zone:trial.zone", "addresses": ["192.0.2.25"]},
                                listener={"allow": ["10.0.0.0/8"]}))  # fmt: skip
    (folder / "trial.zone").write_text(ZONE.replace("ip4:192.0.2.25 ", ""))
    key = ScramKey.make(Secret("made-up"), b"salt salt salt", 4096)
    for name, text in (
        ("credentials.toml", '[beacon]\nlogin = "x"\npassword = "made-up"\n'),
        ("accounts.toml", f'[ticketing]\nkey = "{key}"\n'),
    ):
        (folder / name).touch(mode=0o600)
        (folder / name).write_text(text)
    subprocess.run(["openssl", "genrsa", "-out", str(folder / "old.pem"), "1024"], check=True, capture_output=True)
    (folder / "old.pem").chmod(0o600)
    (folder / "queue").mkdir(mode=0o755)
    (folder / "kite.log").touch(mode=0o644)
    return config


def found(config: Path, *words: str) -> dict[str, list[dict[str, object]]]:
    done = kite("audit", "--json", *words, config=config)
    return dict(json.loads(done.stdout))


def test_each_weakness_has_a_cure_that_works_as_it_is_printed(folder: Path) -> None:
    config = write_weak(folder)
    weak = found(config)["open"]
    assert len(weak) >= 25
    assert {one["harm"] for one in weak} <= {*RISKS.values()}
    (folder / "bin").mkdir()
    (folder / "bin" / "kite").write_text(f'#!/bin/sh\nexec {sys.executable} -m copper_kite "$@"\n')
    (folder / "bin" / "kite").chmod(0o755)
    path = {"PATH": f"{folder / 'bin'}:{os.environ['PATH']}"}
    for one in weak:
        done = subprocess.run(
            str(one["cure"]),
            shell=True,
            cwd=folder,
            env=environment(**path),
            input=b"new-and-long\nnew-and-long\n",
            capture_output=True,
        )
        assert done.returncode == 0, (one, done.stdout + done.stderr)
        with (folder / "trial.zone").open("ab") as zone:  # what is to be published is
            zone.writelines(line + b"\n" for line in done.stdout.splitlines() if b". IN TXT " in line)
    left = found(config)
    assert [(one["risk"], one["of"]) for one in left["open"]] == []
    assert {one["risk"] for one in left["accepted"]} == {"one-host"}
    assert kite("audit", config=config).returncode == 0


def test_what_is_safe_is_cured_at_once_and_the_rest_stays(folder: Path) -> None:
    config = write_weak(folder)
    before = found(config, "--offline")["open"]
    done = kite("audit", "--fix", "--yes", "--offline", config=config)
    assert done.returncode == 1
    after = {(one["risk"], one["of"]) for one in found(config, "--offline")["open"]}
    assert after == {(one["risk"], one["of"]) for one in before if not one["safe"]}
    assert b"no-guard: done" in done.stdout


def test_what_is_meant_is_accepted_with_a_reason(folder: Path) -> None:
    config = write_weak(folder)
    assert (
        kite("audit", "accept", "any-sender", "ticketing", "--reason", "it sends for all", config=config).returncode
        == 0
    )
    assert kite("audit", "accept", "one-host", "--reason", "so be it", config=config).returncode == 0
    audited = found(config, "--offline")
    assert {(one["risk"], one["reason"]) for one in audited["accepted"]} == {
        ("any-sender", "it sends for all"),
        ("one-host", "so be it"),
    }
    assert not {"one-host", "any-sender"} & {str(one["risk"]) for one in audited["open"]}
    wrong = kite("audit", "accept", "one-hots", "--reason", "x", config=config)
    assert wrong.returncode == 2
    assert b"did you mean 'one-host'" in wrong.stderr


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
        return {one.risk for one in audit_configuration(loaded, around, [], 1.8e9, "2026-11-29").open}

    assert risks(around) - risks(Surroundings()) == {risk}


def test_a_version_ends_some_day(folder: Path) -> None:
    loaded, around = load_configuration(write_weak(folder)), Surroundings(python=(3, 11))
    for today, old in (("2027-10-31", False), ("2027-11-01", True)):
        open_now = audit_configuration(loaded, around, [], 1.8e9, today).open
        assert any(one.risk == "old-software" for one in open_now) is old
