"""Mail leaves signed by the domain it is from; never unsigned for want of a key that there should be."""

from __future__ import annotations

from pathlib import Path

import pytest

from copper_kite.mail import key_record, make_signing_key, read_signing_key
from copper_kite.net.authority import CertificateFiles
from copper_kite.relay.job import Job, SenderRule
from copper_kite.relay.outgoing import NextHop, Outgoing, prepare
from copper_kite.relay.signatures import Signatures
from copper_kite.session.caught import Caught
from copper_kite.settings.load import load_configuration
from copper_kite.smtp.extensions import Capabilities
from copper_kite.store import Message, Recipient
from copper_kite.words import Cause, Side, State
from tests.configuration import connector, site_text, table
from tests.mail import dkim_checker
from tests.relay.test_relay import letter, records, story, talk
from tests.support import converse, site

DOMAIN = "ternferries.example"


def write_keys(folder: Path, *selectors: str, domain: str = DOMAIN) -> tuple[str, dict[str, str]]:
    """Keys of a domain, RSA for selectors that begin with r: their tables, and the records that publish them."""
    tables, records = [], {}
    for selector in selectors:
        file = folder / f"{selector}.pem"
        file.touch(mode=0o600)
        file.write_bytes(make_signing_key("rsa" if selector.startswith("r") else "ed25519"))
        tables.append(table("[[signing]]", domain=domain, selector=selector, key=file.name))
        records[f"{selector}._domainkey.{domain}"] = key_record(read_signing_key(file))
    return "".join(tables), records


def signatures(folder: Path, tables: str) -> Signatures:
    config = folder / "kite.toml"
    config.write_text(site_text(connector("beacon", "localhost:25", tls="off"), tables, bind="127.0.0.1:2525"))
    made = Signatures(lambda: 1_760_000_000.0)
    made.take_up(load_configuration(config))
    return made


def prepared(
    content: bytes, by: Signatures | None, *, must_sign: bool = False, rule: SenderRule | None = None
) -> Outgoing:
    message = Message(7, 0, 9, f"a@{DOMAIN}", len(content), not content.isascii(), False, "<m>", "l", "unix", "h", "",
                      "ESMTP", form=1 if b"x" * 1000 in content else 0)  # fmt: skip
    half = content.index(b"\r\n\r\n") + 5  # a header is never divided
    job = Job(message, [Recipient(7, 1, "r@y.example")], "c", None, None, lambda id: (content[:half], content[half:]))
    return prepare(job, NextHop(Capabilities({}), proven=True, sender_rule=rule, signatures=by, must_sign=must_sign))


def content_from(address: str, body: str = "hi\r\n") -> bytes:
    return f"From: J <{address}>\r\nTo: r@y.example\r\nSubject: x\r\n\r\n{body}".encode()


def test_signatures_cover_what_all_other_transforms_wrote(tmp_path: Path) -> None:
    tables, published = write_keys(tmp_path, "r1", "e1")
    result = prepared(content_from("j@z.example", f"höher {'x' * 2000}\r\n"), signatures(tmp_path, tables),
                     rule=SenderRule(f"out@{DOMAIN}"))  # fmt: skip
    sent = b"".join(result.content())
    assert dkim_checker.check(sent, published) == ["r1 pass", "e1 pass"]
    assert result.envelope.size == len(sent)
    assert sent.isascii()
    assert result.signed == f"{DOMAIN} (r1, e1)"
    assert b"".join(result.content()) == sent, "asked for again, it is the same"


@pytest.mark.parametrize(
    ("author", "signed"),
    [
        (f"a@{DOMAIN}", True),
        (f"a@{DOMAIN.upper()}", True),
        (f"a@quay1.{DOMAIN}", True),  # by the nearest domain above
        (f"a@not{DOMAIN}", False),
        ("a@other.example", False),
        ("", False),
    ],
)
def test_the_domain_of_from_decides_who_signs(tmp_path: Path, author: str, signed: bool) -> None:
    tables, published = write_keys(tmp_path, "e1")
    by = signatures(tmp_path, tables)
    sent = b"".join(prepared(content_from(author), by).content())
    assert dkim_checker.check(sent, published) == (["e1 pass"] if signed else [])
    held = prepared(content_from(author), by, must_sign=True).stop
    assert (held is None) is signed
    if held is not None:
        assert (held.cause, held.reply) == (Cause.NO_SIGNING_KEY, None), "it waits, and does not fail"


def test_a_subdomain_with_keys_of_its_own_uses_those(tmp_path: Path) -> None:
    above, published = write_keys(tmp_path, "e1")
    own, more = write_keys(tmp_path, "e2", domain=f"quay1.{DOMAIN}")
    sent = b"".join(prepared(content_from(f"a@quay1.{DOMAIN}"), signatures(tmp_path, above + own)).content())
    assert dkim_checker.check(sent, published | more) == ["e2 pass"]


def test_keys_that_are_not_in_use_do_not_sign(tmp_path: Path) -> None:
    tables, published = write_keys(tmp_path, "e1", "e2", "e3")
    for selector, use in (("e2", "next"), ("e3", "past")):
        tables = tables.replace(f'selector = "{selector}"', f'selector = "{selector}"\nuse = "{use}"')
    assert dkim_checker.check(
        b"".join(prepared(content_from(f"a@{DOMAIN}"), signatures(tmp_path, tables)).content()), published
    ) == ["e1 pass"]


def from_us(address: str = f"a@{DOMAIN}") -> bytes:
    return letter("x@y.example", content=content_from(address))


def sent_as(caught: Caught) -> bytes:
    assert caught.file is not None
    return caught.file.read_bytes()


async def test_a_key_that_cannot_be_read_holds_the_mail(folder: Path, authority: CertificateFiles) -> None:
    """Held with a cause of its own; what is not from that domain goes on; it leaves when the key is there again."""
    tables, published = write_keys(folder, "e1")
    kept = (folder / "e1.pem").read_bytes()
    (folder / "e1.pem").unlink()
    async with site(folder, authority, extra=tables) as here:
        await converse(here.port, talk(from_us(), from_us("a@other.example")))
        await here.until_caught(1)
        assert b"DKIM-Signature" not in sent_as(here.caught[0])
        await here.until(lambda reader: reader.summary().by_state == {State.DELAYED: 1})
        [held] = [record for record in records(here) if record.recipients[0].state is State.DELAYED]
        assert held.attempts[-1].cause == Cause.SIGNING_FAILED.value
        assert story(here, held).verdict.side is Side.HERE
        (folder / "e1.pem").touch(mode=0o600)
        (folder / "e1.pem").write_bytes(kept)
        await here.service.reload(load_configuration(here.loaded.path))
        assert dkim_checker.check(sent_as((await here.until_caught(2))[1]), published) == ["e1 pass"]


async def test_each_message_of_a_session_is_signed_and_its_story_says_by_whom(
    folder: Path, authority: CertificateFiles
) -> None:
    tables, published = write_keys(folder, "r1", "e1")
    async with site(folder, authority, extra=tables) as here:
        await converse(here.port, talk(*[from_us()] * 5))
        for caught in await here.until_caught(5):
            assert dkim_checker.check(sent_as(caught), published) == ["r1 pass", "e1 pass"]
        await here.until(lambda reader: not reader.summary().by_state)
        for record in records(here):
            assert record.attempts[0].facts.session.signed == f"{DOMAIN} (r1, e1)"
