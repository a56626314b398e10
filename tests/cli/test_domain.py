"""Keys, the sending domain and signatures, with the built program."""

from __future__ import annotations

import asyncio
import json
import re
from pathlib import Path

import pytest

from copper_kite.net.authority import CertificateFiles
from tests.cli.test_commands import smart_host, take
from tests.configuration import connector, site_text
from tests.mail import dkim_checker
from tests.support import PASSWORD, free_port, kite, running

DOMAIN = "ternferries.example"
ZONE = """$TTL 300
localhost. IN A 127.0.0.1
ternferries.example. IN MX 10 mx1.ternferries.example.
ternferries.example. IN TXT "v=spf1 ip4:192.0.2.25 include:spf.beaconpost.example -all"
mx1.ternferries.example. IN A 192.0.2.7
spf.beaconpost.example. IN TXT "v=spf1 ip4:203.0.113.0/24 ~all"
quay1.ternferries.example. IN A 192.0.2.25
25.2.0.192.in-addr.arpa. IN PTR quay1.ternferries.example.
_dmarc.ternferries.example. IN TXT "v=DMARC1; p=quarantine"
"""


def write_server(folder: Path, hop: str, *, port: int | None = None, tls: str = "off", **keys: object) -> Path:
    folder.mkdir(exist_ok=True)
    config = folder / "kite.toml"
    (folder / "trial.zone").write_text(ZONE)
    config.write_text(site_text(
        connector("beacon", hop, tls=tls, spf="include:spf.beaconpost.example", **keys),
        bind=[f"127.0.0.1:{port or free_port()}", f"unix:{folder}/submit.sock"], server={"dns": "zone:trial.zone"},
    ))  # fmt: skip
    return config


def publish(folder: Path, output: bytes) -> dict[str, str]:
    """Put the records that a command printed into the zone; all keys there, by the names of their records."""
    with (folder / "trial.zone").open("ab") as zone:
        zone.writelines(line + b"\n" for line in output.splitlines() if b"_domainkey" in line and b" IN TXT " in line)
    lines = re.findall(r"^(\S+_domainkey\S+)\. IN TXT (.*)$", (folder / "trial.zone").read_text(), re.M)
    return {name: "".join(re.findall(r'"([^"]*)"', text)) for name, text in lines}


def uses(config: Path) -> list[tuple[str, str]]:
    return [(row["kind"], row["use"]) for row in json.loads(kite("signing", "list", "--json", config=config).stdout)]


def test_keys_are_made_published_used_and_replaced(folder: Path) -> None:
    config = write_server(folder, "localhost:25")
    added = kite("signing", "add", DOMAIN, config=config)
    assert added.returncode == 0, added.stderr
    assert {file.stat().st_mode & 0o777 for file in (folder / "keys").iterdir()} == {0o600}
    assert kite("check", config=config).returncode == 0
    before = kite("signing", "test", config=config)
    assert before.returncode == 1
    assert before.stdout.count(b"no key is published") == 2
    publish(folder, added.stdout)
    assert kite("signing", "test", DOMAIN, config=config).returncode == 0
    assert uses(config) == [("rsa 2048", "sign"), ("ed25519", "sign")]

    made = kite("signing", "rotate", DOMAIN, config=config)
    assert made.returncode == 0
    refused = kite("signing", "rotate", DOMAIN, config=config)
    assert refused.returncode == 1
    assert b"nothing was changed" in refused.stdout
    publish(folder, made.stdout)
    assert kite("signing", "rotate", DOMAIN, config=config).returncode == 0
    assert uses(config) == [("rsa 2048", "past"), ("ed25519", "past"), ("rsa 2048", "sign"), ("ed25519", "sign")]
    assert b"no mail needs it" not in kite("signing", "list", config=config).stdout
    config.write_text(
        re.sub(r'use = "past"\nsince = "[^"]*"', 'use = "past"\nsince = "2026-01-05"', config.read_text())
    )
    [old, _] = re.findall(rb"no mail needs it any longer: kite (.*)", kite("signing", "list", config=config).stdout)
    config.write_text(
        config.read_text().replace(f'[[signing]]\ndomain = "{DOMAIN}"', f'[[signing]]\ndomain = "{DOMAIN.title()}"')
    )
    removed = kite(*old.decode().replace(DOMAIN, DOMAIN.upper()).split(), "--yes", config=config)
    assert removed.returncode == 0, removed.stderr
    assert len(uses(config)) == 3


def test_a_server_under_systemd_signs_when_it_has_the_keys(folder: Path) -> None:
    """Until they are handed over, nothing is signed with them: else the mail would be held."""
    config, given = write_server(folder, "localhost:25"), folder / "given"
    given.mkdir()
    with running(config, CREDENTIALS_DIRECTORY=str(given)):
        added = kite("signing", "add", DOMAIN, "--only", "ed25519", config=config)
        assert added.returncode == 0, added.stderr
        assert b"systemctl restart copper-kite" in added.stdout
        assert uses(config) == [("ed25519", "next")]
        publish(folder, added.stdout)
        early = kite("signing", "rotate", DOMAIN, config=config)
        assert early.returncode == 1
        assert b"nothing was changed" in early.stdout
        [key] = (folder / "keys").iterdir()
        (given / key.name).write_bytes(key.read_bytes())
        (given / key.name).chmod(0o600)
        assert kite("signing", "rotate", DOMAIN, config=config).returncode == 0
        assert uses(config) == [("ed25519", "sign")]


@pytest.mark.parametrize(
    ("words", "status", "said"),
    [
        (("add", "not a domain"), 2, b"is not a fully qualified domain name"),
        (("add", DOMAIN, "--selector", "x"), 2, b"name one kind with --only"),
        (("rotate", "other.example"), 2, b"other.example has no keys"),
        (("test",), 2, b"nothing is signed"),
        (("remove", DOMAIN, "x"), 2, b"has no keys"),
    ],
)
def test_wrong_words_are_told(folder: Path, words: tuple[str, ...], status: int, said: bytes) -> None:
    done = kite("signing", *words, config=write_server(folder, "localhost:25"))
    assert (done.returncode, said in done.stderr) == (status, True), done.stderr


def test_a_lost_key_is_an_error_of_check(folder: Path) -> None:
    config = write_server(folder, "localhost:25")
    assert kite("signing", "add", DOMAIN, "--only", "ed25519", "--selector", "e1", config=config).returncode == 0
    next((folder / "keys").iterdir()).unlink()
    checked = kite("check", config=config)
    assert checked.returncode == 1
    assert b"e1._domainkey.ternferries.example cannot be used: no such file" in checked.stdout
    assert b"cannot be used" in kite("signing", "list", config=config).stdout


def test_what_receivers_see_of_a_domain(folder: Path) -> None:
    config = write_server(folder, "localhost:25")
    bad = kite("domain", config=config)
    assert bad.returncode == 1
    assert b"kite signing add ternferries.example" in bad.stdout
    publish(folder, kite("signing", "add", DOMAIN, config=config).stdout)
    good = kite("domain", "--json", config=config)
    assert good.returncode == 0, good.stdout
    [result] = json.loads(good.stdout)["domains"]
    assert result["domain"] == DOMAIN
    assert {line["grade"] for line in result["lines"]} == {"good", "remark"}
    wanted = folder / "wanted.zone"
    wanted.write_bytes(b"$TTL 300\n" + kite("domain", "--records", config=config).stdout)
    assert kite("domain", "--expect", wanted, config=config).returncode == 0
    wanted.write_bytes(wanted.read_bytes() + b'_mta-sts.ternferries.example. IN TXT "v=STSv1; id=1"\n')
    differs = kite("domain", "--expect", wanted, config=config)
    assert differs.returncode == 1
    assert b"_mta-sts.ternferries.example TXT" in differs.stdout


@pytest.mark.data_folder
async def test_signatures_hold_after_two_relays_of_ours(folder: Path, authority: CertificateFiles) -> None:
    """The first signs; the second adds its own trace field and passes the rest on; both keys are believed."""
    async with smart_host(folder, authority) as (hop, caught):
        port = free_port()
        (folder / "second").mkdir()
        secrets = folder / "second" / "credentials.toml"
        secrets.touch(mode=0o600)
        second = write_server(folder / "second", f"localhost:{hop}", port=port, tls="starttls", trust=str(folder / "ca.pem"),
                              credential="beacon")  # fmt: skip
        secrets.write_text(f'[beacon]\nlogin = "tern"\npassword = "{PASSWORD}"\n')
        first = write_server(folder / "first", f"127.0.0.1:{port}")
        keys = publish(folder / "first", (await asyncio.to_thread(kite, "signing", "add", DOMAIN, config=first)).stdout)
        with running(second), running(first):
            letter = f"From: a@{DOMAIN}\nTo: b@crew.example\nSubject: höhe\n\nHöhe 5 m\n\n{'x' * 2000}\n".encode()
            sent = await asyncio.to_thread(kite, "pipe", "b@crew.example", stdin=letter, config=first)
            assert sent.returncode == 0, sent.stderr
            item = await take(caught)
            assert item.file is not None
            content = item.file.read_bytes()
        assert content.count(b"\r\nReceived:") + content.startswith(b"Received:") == 2
        assert [result.split()[1] for result in dkim_checker.check(content, keys)] == ["pass", "pass"]
        received = folder / "received.eml"
        received.write_bytes(content)
        believed = await asyncio.to_thread(kite, "headers", received, "--verify", "--json", config=first)
        assert believed.returncode == 0, believed.stdout
        assert [each["result"] for each in json.loads(believed.stdout)["signatures"]] == ["pass", "pass"]
        received.write_bytes(content.replace(b"Subject: ", b"Subject: [crew] "))
        broken = await asyncio.to_thread(kite, "headers", received, "--verify", config=first)
        assert broken.returncode == 1
        assert b"words in brackets were put before the subject" in broken.stdout
        traced = await asyncio.to_thread(kite, "trace", "b@crew.example", config=first)
        assert b"signed by ternferries.example (r" in b" ".join(traced.stdout.split())
