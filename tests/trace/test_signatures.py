"""What the signatures of a received message prove, and what stands against them."""

from __future__ import annotations

import asyncio
from pathlib import Path

import pytest

from copper_kite.mail import BodyDigest, Signer, key_record, make_signing_key, read_signing_key, split_fields
from copper_kite.net import Lookups
from copper_kite.trace import SignatureChecks, check_signatures, signatures_verdict
from copper_kite.words import Side

NOW = 1_760_000_000.0
HEADER = b"From: Tide Watch <tidewatch@sub.ternferries.example>\r\nSubject: high water\r\n"
BODY = b"Gauge 4: 5.1 m\r\n"


@pytest.fixture(scope="module")
def ground(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A key, and the zone that has it for two domains."""
    folder = tmp_path_factory.mktemp("signatures")
    (folder / "key").write_bytes(make_signing_key("ed25519"))
    (folder / "key").chmod(0o600)
    record = key_record(read_signing_key(folder / "key"))
    zone = [f'k1._domainkey.{domain}. IN TXT "{record}"\n' for domain in ("ternferries.example", "crew.example")]
    (folder / "trial.zone").write_text("$TTL 300\n" + "".join(zone))
    return folder


def signed(ground: Path, *domains: str, selector: str = "k1") -> bytes:
    """The message, signed by each domain."""
    key, digest, message = read_signing_key(ground / "key"), BodyDigest(), HEADER + b"\r\n" + BODY
    digest.update(BODY)
    body_hash = digest.value()
    for domain in domains:
        message = Signer(domain, selector, key).sign(split_fields(HEADER), body_hash, NOW) + message
    return message


def check(ground: Path, content: bytes, dns: str = "") -> SignatureChecks:
    return asyncio.run(check_signatures(content, Lookups(dns or f"zone:{ground}/trial.zone", 0.2), NOW))


def test_the_domain_of_the_author_proves_it(ground: Path) -> None:
    content = signed(ground, "ternferries.example", "crew.example")
    checks = check(ground, content.replace(b"\r\n", b"\n"))
    assert [(entry.signature.domain, entry.result) for entry in checks.results] == [
        ("crew.example", "pass"), ("ternferries.example", "pass")
    ]  # fmt: skip
    verdict = signatures_verdict(checks)
    assert (verdict.side, verdict.meaning) == (
        None,
        "It is signed by ternferries.example, the domain that it is from.",
    )


def test_another_domain_proves_nothing_about_the_author(ground: Path) -> None:
    verdict = signatures_verdict(check(ground, signed(ground, "crew.example")))
    assert verdict.side is Side.HERE
    assert "that proves nothing about its author" in verdict.meaning


@pytest.mark.parametrize(
    ("change", "side", "words"),
    [
        ((b"high water", b"[list] high water"), Side.BEYOND, "does not hold"),
        ((b"5.1 m\r\n", b"5.1 m\r\n-- \r\nthe list\r\n"), Side.BEYOND, "does not hold"),
        ((b"s=k1", b"s=k2"), Side.HERE, "cannot be used"),
        ((b"v=1;", b"v=2;"), Side.HERE, "cannot be used"),
    ],
)
def test_what_does_not_hold_has_a_side(ground: Path, change: tuple[bytes, bytes], side: Side, words: str) -> None:
    content = signed(ground, "ternferries.example")
    assert change[0] in content
    verdict = signatures_verdict(check(ground, content.replace(*change)))
    assert verdict.side is side
    assert words in verdict.meaning
    assert verdict.evidence


def test_a_key_that_cannot_be_looked_up(ground: Path) -> None:
    checks = check(ground, signed(ground, "ternferries.example"), dns="127.0.0.1:1")
    assert [entry.result for entry in checks.results] == ["temperror"]
    assert signatures_verdict(checks).side is Side.PATH


def test_no_signature_and_who_sealed(ground: Path) -> None:
    seals = (
        b"ARC-Seal: i=2; a=rsa-sha256; d=second.example; s=x; b=AA\r\nARC-Seal: ;;= broken\r\n"
        b"ARC-Seal: i=1; a=rsa-sha256; d=first.example; s=x; b=AA\r\n"
    )
    checks = check(ground, seals + HEADER + b"\r\n" + BODY)
    assert checks.results == []
    assert checks.author_domain == "sub.ternferries.example"
    assert checks.sealed_by == ["first.example", "second.example"]
    assert signatures_verdict(checks).next == "kite signing list"
