"""Whatever others publish or send, reading it ends with a result or an error of ours."""

from __future__ import annotations

import contextlib

from hypothesis import given, settings
from hypothesis import strategies as st

from copper_kite.mail import (
    BadTags,
    KeyUnusable,
    SignedMessage,
    check_signature,
    parse_key_record,
    parse_signatures,
    parse_tags,
)
from copper_kite.net import StsFailed, Tlsa, parse_policy, why_no_match
from copper_kite.posture.spf import parse_record
from copper_kite.posture.spf.macros import Subject, expand
from copper_kite.report import report_addresses
from copper_kite.smtp.sasl.tokens import explain_error

TAGS = st.lists(
    st.sampled_from([
        "v=1", "v=DKIM1", "a=rsa-sha256", "a=ed25519-sha256", "c=relaxed", "c=/", "d=a.example", "s=s", "h=from:to", "h=",
        "bh=!", "b=", "b=AAAA", "l=99999999999999999999", "l=0", "t=0", "x=1", "i=@b.a.example", "k=rsa", "k=ed25519", "p=",
        "p=AAAA", "p=" + "A" * 44, "t=y:s", "s=*", "=", "é=1", "x", "rua=mailto:a@b.example,https://x", "", " ",
    ]),
    max_size=14,
).map(";".join)  # fmt: skip
ANY = st.one_of(TAGS, st.text(max_size=200))


@given(ANY)
def test_lists_of_tags_and_keys(text: str) -> None:
    with contextlib.suppress(BadTags):
        parse_tags(text)
    with contextlib.suppress(KeyUnusable):
        key = parse_key_record(text)
        key.revoked or key.bits  # noqa: B018 (whether it can be had)
    report_addresses([text, f"v=TLSRPTv1; {text}"])


@settings(deadline=None)
@given(TAGS, ANY, st.binary(max_size=300), st.binary(max_size=100))
def test_signatures(tags: str, record: str, header: bytes, body: bytes) -> None:
    content = b"DKIM-Signature: " + tags.encode() + b"\r\nFrom: a@a.example\r\n" + header + b"\r\n\r\n" + body
    message = SignedMessage(content)
    for signature in parse_signatures(message):
        result = check_signature(
            message, signature, [record, "v=DKIM1; k=ed25519; p=11qYAYKxCrfVS/7TyWQHOg7hcvPapiMlrwIaaPcHURo="], 1.8e9
        )
        assert result.result in ("fail", "permerror", "policy")


SPF = st.lists(
    st.sampled_from([
        "all", "-all", "include:", "include:a.example", "a/33", "a//129", "a:%{", "mx/0//0", "ptr:", "ip4:1.2.3.4/99",
        "ip6:::/0", "exists:%{ir}.%{v}.a.example", "redirect=a.example", "redirect=", "exp=%{s}", "x=y", "é", "%", "%%", "?",
    ]),
    max_size=12,
).map(" ".join)  # fmt: skip


@given(st.one_of(SPF, st.text(max_size=200)), st.text(max_size=60))
def test_spf_records_and_macros(text: str, macro: str) -> None:
    import ipaddress

    for problem in parse_record(f"v=spf1 {text}").problems:
        assert problem.place >= 1
    name = expand(macro + "%{l1r-}.%{i99}", Subject(ipaddress.ip_address("::1"), "a@b.example", ""), "c.example")
    assert len(name) <= 253 or "." not in name


@given(st.text(alphabet="versionmodemx_agSTS: *.\r\n0123456789é", max_size=300), st.binary(max_size=200))
def test_policies_and_challenges(text: str, challenge: bytes) -> None:
    with contextlib.suppress(StsFailed):
        parse_policy(text)
    with contextlib.suppress(StsFailed):
        parse_policy(f"version: STSv1\nmode: enforce\nmax_age: 5\nmx: {text}")
    assert explain_error(challenge).isprintable()
    assert explain_error(b'{"status":' + challenge + b"}").isprintable()


@given(
    st.lists(st.binary(max_size=100), max_size=3),
    st.integers(0, 255),
    st.integers(0, 255),
    st.integers(0, 255),
    st.binary(max_size=64),
)
def test_tlsa_records_and_certificates(
    chain: list[bytes], usage: int, selector: int, matching: int, data: bytes
) -> None:
    record = Tlsa(usage, selector, matching, data)
    assert why_no_match([record], chain, ["a.example"], 1.8e9)
