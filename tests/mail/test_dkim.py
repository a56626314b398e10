"""Signatures: made, checked, and broken in every way that mail meets."""

import itertools
import os

import pytest
from hypothesis import given
from hypothesis import strategies as st

from copper_kite.mail import (
    BodyDigest,
    KeyUnusable,
    SignedMessage,
    Signer,
    check_signature,
    key_record,
    make_signing_key,
    parse_key_record,
    parse_signatures,
    read_signing_key,
    split_fields,
)
from tests.mail import dkim_checker

# RFC 8463 appendix A: keys, and a message signed with both.
RECORDS = {
    "brisbane._domainkey.football.example.com": "v=DKIM1; k=ed25519; p=11qYAYKxCrfVS/7TyWQHOg7hcvPapiMlrwIaaPcHURo=",
    "test._domainkey.football.example.com": (
        "v=DKIM1; k=rsa; p=MIGfMA0GCSqGSIb3DQEBAQUAA4GNADCBiQKBgQDkHlOQoBTzWRiGs5V6NpP3idY6Wk08a5qhdR6wy5bdOKb2jLQiY/J16JYi0"
        "Qvx/byYzCNb3W91y3FutACDfzwQ/BC/e/8uBsCR+yz1Lxj+PL6lHvqMKrM3rG4hstT5QjvHO9PzoxZyVYLzBfO2EeC3Ip3G+2kryOTIKT+l/K4w3QID"
        "AQAB"
    ),
}
EXAMPLE = b"""\
DKIM-Signature: v=1; a=ed25519-sha256; c=relaxed/relaxed;
 d=football.example.com; i=@football.example.com;
 q=dns/txt; s=brisbane; t=1528637909; h=from : to :
 subject : date : message-id : from : subject : date;
 bh=2jUSOH9NhtVGCQWNr9BrIAPreKQjO6Sn7XIkfJVOzv8=;
 b=/gCrinpcQOoIfuHNQIbq4pgh9kyIK3AQUdt9OdqQehSwhEIug4D11Bus
 Fa3bT3FY5OsU7ZbnKELq+eXdp1Q1Dw==
DKIM-Signature: v=1; a=rsa-sha256; c=relaxed/relaxed;
 d=football.example.com; i=@football.example.com;
 q=dns/txt; s=test; t=1528637909; h=from : to : subject :
 date : message-id : from : subject : date;
 bh=2jUSOH9NhtVGCQWNr9BrIAPreKQjO6Sn7XIkfJVOzv8=;
 b=F45dVWDfMbQDGHJFlXUNB2HKfbCeLRyhDXgFpEL8GwpsRe0IeIixNTe3
 DhCVlUrSjV4BwcVcOF6+FF3Zo9Rpo1tFOeS9mPYQTnGdaSGsgeefOsk2Jz
 dA+L10TeYt9BgDfQNZtKdN1WO//KgIqXP7OdEFE4LjFYNcUxZQ4FADY+8=
From: Joe SixPack <joe@football.example.com>
To: Suzie Q <suzie@shopping.example.net>
Subject: Is dinner ready?
Date: Fri, 11 Jul 2003 21:00:37 -0700 (PDT)
Message-ID: <20030712040037.46341.5F8J@football.example.com>

Hi.

We lost the game.  Are you hungry yet?

Joe.
""".replace(b"\n", b"\r\n")
NOW = 1_760_000_000.0
MESSAGE = (
    b"Received: from a.example\r\n\tby b.example; Sun, 1 Nov 2026 10:00:00 +0000\r\n"
    b"From: Tide Watch <tidewatch@ternferries.example>\r\nTo: duty@crew.example\r\nSubject: high  water\r\n"
    b"Date: Sun, 1 Nov 2026 10:00:00 +0000\r\nMessage-ID: <1@ternferries.example>\r\n\r\n"
    b"Gauge 4:  \t 5.1 m\r\n\r\nSee you \r\n\r\n\r\n"
)


@pytest.fixture(scope="module")
def keys(tmp_path_factory):
    folder = tmp_path_factory.mktemp("keys")
    for kind in ("rsa", "ed25519"):
        (folder / kind).write_bytes(make_signing_key(kind))
        (folder / kind).chmod(0o600)
    return {kind: read_signing_key(folder / kind) for kind in ("rsa", "ed25519")}


def sign(message, key, selector="s1", **more):
    head, _, body = message.partition(b"\r\n\r\n")
    digest = BodyDigest()
    digest.update(body)
    return (
        Signer("ternferries.example", selector, key, **more).sign(split_fields(head + b"\r\n"), digest.value(), NOW)
        + message
    )


def results(message, records, now=NOW):
    signed = SignedMessage(message)
    result = [
        check_signature(signed, signature, [records[signature.key_name]] if signature.key_name in records else [], now)
        for signature in parse_signatures(signed)
    ]
    return [(item.result, item.why, item.changed) for item in result]


def records_of(key, selector="s1"):
    return {f"{selector}._domainkey.ternferries.example": key_record(key)}


def test_the_examples_of_the_rfc():
    assert dkim_checker.check(EXAMPLE, RECORDS) == ["brisbane pass", "test pass"]
    assert results(EXAMPLE, RECORDS) == [("pass", "", ""), ("pass", "", "")]
    spoilt = EXAMPLE.replace(b"dinner", b"supper")
    assert dkim_checker.check(spoilt, RECORDS) == ["brisbane signature", "test signature"]
    assert [result for result, _, _ in results(spoilt, RECORDS)] == ["fail", "fail"]


@pytest.mark.parametrize("kind", ["rsa", "ed25519"])
def test_what_we_sign_an_independent_checker_believes(keys, kind):
    signed = sign(MESSAGE, keys[kind])
    assert dkim_checker.check(signed, records_of(keys[kind])) == ["s1 pass"]
    assert results(signed, records_of(keys[kind])) == [("pass", "", "")]
    assert all(len(line) <= 78 for line in signed.partition(b"From:")[0].split(b"\r\n"))
    assert b"l=" not in signed.partition(b"bh=")[0]


def test_both_keys_sign_and_neither_minds_the_other(keys):
    signed = sign(sign(MESSAGE, keys["rsa"], "r"), keys["ed25519"], "e")
    records = records_of(keys["rsa"], "r") | records_of(keys["ed25519"], "e")
    assert dkim_checker.check(signed, records) == ["e pass", "r pass"]


BODIES = st.lists(
    st.sampled_from([b"\r\n", b" ", b"\t", b"a", b"\r", b"\n", b"word", b"\r\n\r\n", b" \r\n"]), max_size=30
)


@given(BODIES, st.lists(st.integers(0, 60), max_size=6), st.booleans())
def test_a_body_in_portions_is_hashed_as_one(parts, cuts, relaxed):
    body = b"".join(parts)
    whole = BodyDigest(relaxed=relaxed)
    whole.update(body)
    split = BodyDigest(relaxed=relaxed)
    places = sorted({0, *(min(cut, len(body)) for cut in cuts), len(body)})
    for start, end in itertools.pairwise(places):
        split.update(body[start:end])
    assert split.value() == whole.value()


@given(st.lists(st.sampled_from([b"\r\n", b" ", b"\t", b"a", b"bc"]), max_size=30), st.booleans())
def test_a_body_is_hashed_as_the_independent_checker_does(parts, relaxed):
    import base64
    import hashlib

    body = b"".join(parts)
    digest = BodyDigest(relaxed=relaxed)
    digest.update(body)
    canonical = dkim_checker._relaxed_body(body) if relaxed else dkim_checker._simple_body(body)
    assert digest.value() == base64.b64encode(hashlib.sha256(canonical).digest())


def test_a_body_of_nothing_but_lines_takes_no_memory():
    digest = BodyDigest()
    for _ in range(1000):
        digest.update(b"\r\n" * 1000)
    assert digest._blank == 1_000_000
    assert len(digest._rest) == 0


@pytest.mark.parametrize(
    ("change", "why"),
    [
        (lambda m: m.replace(b"Subject: high", b"Subject: [crew] high"), "words in brackets were put before the subject"),
        (lambda m: m.replace(b"Received:", b"Subject: you won\r\nReceived:"), "a field subject was added"),
        (lambda m: m.replace(b"Received:", b"Cc: all@crew.example\r\nReceived:"), "a field cc was added"),
        (lambda m: m.rstrip(b"\r\n") + b"\r\n--\r\nSent by a list\r\n", "2 lines were added at the end of the body"),
        (lambda m: m.replace(b"\r\n\r\nGauge", b"\r\n\r\nCAUTION: from outside\r\nGauge"), "a line was added at the beginning of the body"),
        (lambda m: m.replace(b"5.1 m", b"9.1 m"), ""),
        (lambda m: m.replace(b"Date: Sun, 1 Nov", b"Date: Sun, 2 Nov"), ""),
    ],
)  # fmt: skip
def test_what_broke_a_signature_is_told(keys, change, why):
    [(result, _, changed)] = results(change(sign(MESSAGE, keys["ed25519"])), records_of(keys["ed25519"]))
    assert (result, changed) == ("fail", why)


def test_what_servers_on_the_way_may_do_breaks_nothing(keys):
    signed = sign(MESSAGE, keys["rsa"])
    passed_on = b"Received: from c.example\r\n\tby d.example; x\r\n" + signed.replace(
        b"Subject: high  water", b"SUBJECT:\thigh\r\n water  "
    ).replace(b"See you \r\n", b"See  you\r\n")
    assert results(passed_on, records_of(keys["rsa"])) == [("pass", "", "")]


def test_signatures_expire_and_come_from_the_future(keys):
    signed, records = sign(MESSAGE, keys["ed25519"], expires=3600.0), records_of(keys["ed25519"])
    assert [result[0] for result in results(signed, records, NOW + 3000)] == ["pass"]
    assert results(signed, records, NOW + 3700)[0][1] == "it has expired (x=)"
    assert "future" in results(signed, records, NOW - 4000)[0][1]


@pytest.mark.parametrize(
    ("record", "result", "why"),
    [
        (None, "permerror", "no key is published at s1._domainkey.ternferries.example"),
        ("v=DKIM1; k=ed25519; p=", "permerror", "its key is revoked (p= is empty)"),
        (
            "v=DKIM1; k=rsa; p=MIGf",
            "permerror",
            "the published key is of kind rsa, and the signature is ed25519-sha256",
        ),
        ("v=DKIM1; k=ed25519; p=abcd", "permerror", "the published key is not one of kind ed25519"),
        ("v=DKIM1; k=ed25519; p=!!!!", "permerror", "p= is not base64: a part of the key is missing or was changed"),
        ("v=DKIM1; k=ed25519", "permerror", "the record has no p=, and thus no key"),
        ("k=ed25519; v=DKIM1; p=abcd", "permerror", "the record does not begin with v=DKIM1"),
        ("v=DKIM1; k=ed25519; s=tlsrpt; p=abcd", "permerror", "the published key is not for mail (s=)"),
        ("v=DKIM1; k=ed25519; h=sha1; p=abcd", "permerror", "the published key is not for SHA-256 (h=)"),
        ("hello", "permerror", "the record cannot be read: 'hello' has no ="),
    ],
)
def test_records_that_cannot_be_used(keys, record, result, why):
    records = {"s1._domainkey.ternferries.example": record} if record is not None else {}
    assert results(sign(MESSAGE, keys["ed25519"]), records) == [(result, why, "")]


@pytest.mark.parametrize(
    ("old", "new", "why"),
    [
        (
            b"a=ed25519-sha256",
            b"a=rsa-sha1",
            "its algorithm 'rsa-sha1' is not supported and no longer valid (RFC 8301)",
        ),
        (b"v=1;", b"v=2;", "its version '2' is not known"),
        (b"h=From:From:", b"h=", "it does not cover From"),
        (b" s=s1;", b"", "it has no s="),
        (b"c=relaxed/relaxed", b"c=none", "its canonicalization 'none' is not known"),
        (b"; t=", b"; i=@evil.example; t=", "its identity (i=) is not of its domain (d=)"),
        (b"; t=", b"; t=x", "one of its numbers (l=, t=, x=) is invalid"),
        (b"v=1;", b"v=1; v=1;", "it cannot be read: the tag v is given twice"),
    ],
)
def test_signatures_that_cannot_be_used(keys, old, new, why):
    signed = sign(MESSAGE, keys["ed25519"])
    assert old in signed
    assert results(signed.replace(old, new, 1), records_of(keys["ed25519"])) == [("permerror", why, "")]


def test_keys_are_private_files_and_long_enough(tmp_path):
    file = tmp_path / "key"
    with pytest.raises(KeyUnusable, match="no such file"):
        read_signing_key(file)
    file.write_bytes(make_signing_key("ed25519"))
    file.chmod(0o644)
    with pytest.raises(KeyUnusable, match="any user of this machine can read it"):
        read_signing_key(file)
    file.chmod(0o640)
    assert read_signing_key(file).algorithm == "ed25519-sha256"
    file.write_bytes(b"no key")
    with pytest.raises(KeyUnusable, match="not a private key"):
        read_signing_key(file)
    os.system(f"openssl genrsa -out {file} 512 2>/dev/null")
    with pytest.raises(KeyUnusable, match=r"512 bits|not a private key"):
        read_signing_key(file)


def test_a_record_gives_back_its_key(keys):
    for kind, bits in (("rsa", 2048), ("ed25519", 256)):
        published = parse_key_record(key_record(keys[kind]))
        assert (published.kind, published.bits, published.octets) == (kind, bits, keys[kind].public_octets)
    flags = parse_key_record("v=DKIM1; t=y:s; p=abcd")
    assert (flags.testing, flags.strict_identity, flags.kind) == (True, True, "rsa")
