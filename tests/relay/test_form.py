"""What programs submit and SMTP does not carry: taken, and mended on its way out so that it decodes to the same."""

from __future__ import annotations

import asyncio
import shutil
import smtplib
import subprocess
from email import message_from_bytes
from pathlib import Path

import pytest

from copper_kite.mail.labelled import labelled
from copper_kite.mail.sevenbit import to_lines
from copper_kite.net.authority import CertificateFiles
from copper_kite.settings.load import load_configuration
from copper_kite.smtp.content import ChunkReader, Form, Takes, local_line_ends
from copper_kite.smtp.limits import Limits
from copper_kite.trace.story import tell_story
from copper_kite.words import State
from tests.cli.test_commands import smart_host, take
from tests.corpus import corpus
from tests.relay.test_relay import letter, records, talk
from tests.support import codes, converse, environment, running, site, write_site

CORPUS = list(corpus())


def decoded(content: bytes) -> list[tuple[str, bytes | None]]:
    """The types and the octets of all parts without parts, as Python's `email` reads them."""
    result = message_from_bytes(content)
    return [
        (part.get_content_type(), part.get_payload(decode=True))  # type: ignore[misc]
        for part in result.walk()
        if not part.is_multipart()
    ]


def longest(content: bytes) -> int:
    return max(map(len, content.split(b"\r\n")))


@pytest.mark.parametrize(
    ("message", "mends"), [(item, mends) for _, item, mends in CORPUS], ids=[n for n, _, _ in CORPUS]
)
def test_what_is_mended_decodes_to_the_same(message: bytes, mends: bool) -> None:
    made = to_lines(message)
    assert (made is not None) == mends
    if made is not None:
        assert longest(made) <= 998 and b"\0" not in made
        assert decoded(made) == decoded(message)
        before, after = message_from_bytes(message), message_from_bytes(made)
        assert "".join(str(after["Subject"]).split()) == "".join(str(before["Subject"]).split())
        assert to_lines(made) is made, "what is fit stays as it is"


def test_the_corpus_is_large_enough() -> None:
    assert len(CORPUS) >= 60


@pytest.mark.parametrize("chunk", [0, 700, 70_001])
async def test_long_lines_and_nul_leave_encoded(folder: Path, authority: CertificateFiles, chunk: int) -> None:
    """Whole in memory, and in portions; the next hop takes only what is fit."""
    body = b"".join(b"%d " % n * 700 + b"\0end\r\n" for n in range(300))

    async with site(folder, authority) as here:
        some = [letter("a@x.example", content=b"Subject: s\r\n\r\n" + item) for item in (body, body[:5000] + b"\r\n")]
        await converse(here.port, talk(*some), chunk=chunk)
        caught = await here.until_caught(2)
        for item, sent in zip(sorted(caught, key=lambda c: -c.size), (body, body[:5000] + b"\r\n"), strict=True):
            assert item.file is not None
            content = item.file.read_bytes()
            assert longest(content) <= 998
            assert decoded(content) == [("text/plain", sent)]
        await here.until(lambda reader: reader.totals() == {State.RELAYED: 2})
        assert {record.message.form for record in records(here)} == {Form.LONG_LINES | Form.NUL}
        assert {item.attempts[0].facts.changed for item in records(here)} == {"long lines and NUL were encoded"}
        story = tell_story(records(here)[0], {}, running=True)
        assert any(line.what == "encoded" for line in story.lines)


@pytest.mark.parametrize(
    ("content", "header", "charset"),
    [
        ("Subject: Füße\r\n\r\ngrün\r\n".encode(), b"Subject: =?utf-8?b?RsO8w59l?=\r\n", b"utf-8"),
        ("grün\r\n".encode(), b"", b"utf-8"),
        ("Subject: s\r\n\r\ngrün\r\n".encode("latin-1"), b"Subject: s\r\n", b"unknown-8bit"),
        (b"Subject: s\r\n\r\n" + "ä".encode() * 400_000 + b"\r\n", b"Subject: s\r\n", b"utf-8"),
        ("From: <ü@x.example>\r\n\r\nx\r\n".encode(), "From: <ü@x.example>\r\n".encode(), b""),
        ("Content-Type: text/plain\r\n\r\ngrün\r\n".encode(), b"Content-Type: text/plain\r\n", b""),
    ],
)
def test_text_that_does_not_say_what_it_is_is_labelled(content: bytes, header: bytes, charset: bytes) -> None:
    """RFC 6409 8: also where only the beginning is there."""
    made = labelled(content[:300_001], utf8=False)
    assert header in made and (b"charset=" + charset in made) == bool(charset)
    assert made.endswith(content[:300_001].partition(b"\r\n\r\n")[2][-20:])
    kept = labelled(content, utf8=True)
    assert kept.startswith(content.partition(b"\r\n\r\n")[0][:20]) or not header
    assert labelled(made, utf8=False) == made


async def test_what_was_done_to_one_message_is_not_told_of_another(folder: Path, authority: CertificateFiles) -> None:
    """The first is refused after it was mended; the second stood in a mailbox; nothing was done to the third."""

    async with site(folder, authority) as here:
        looping = b"Received: from a\r\n" * 200 + "Subject: ü\r\n\r\nx\r\n".encode()
        stored = b"From a@x.example Mon May  4 09:00:00 2026\r\nSubject: 2\r\n\r\nx\r\n"
        plain = b"Subject: 3\r\n\r\nx\r\n"
        some = [letter("a@x.example", content=item) for item in (looping, stored, plain)]
        assert codes(await converse(here.port, talk(*some))).count(b"554") == 1
        await here.until(lambda reader: reader.totals() == {State.RELAYED: 2})
        told = {
            record.message.subject: [
                line.text for line in tell_story(record, {}, running=True).lines if line.what == "remark"
            ]
            for record in records(here)
        }
        assert told == {"2": ["a mailbox line before the header was dropped"], "3": []}


async def test_a_message_in_8_bits_arrives_with_its_label(folder: Path, authority: CertificateFiles) -> None:

    async with site(folder, authority) as here:
        text = "Subject: Füße\r\n\r\ngrün\r\n".encode()
        await converse(here.port, talk(letter("a@x.example", content=text)))
        (item,) = await here.until_caught(1)
        assert item.file is not None
        result = message_from_bytes(item.file.read_bytes())
        await here.until(lambda reader: reader.totals() == {State.RELAYED: 1})
        (remark,) = [
            line.text for line in tell_story(records(here)[0], {}, running=True).lines if line.what == "remark"
        ]
        assert remark == "octets over 127 were labelled, or encoded in the header"
        assert result.get_content_charset() == "utf-8" and "grün" in result.get_payload(decode=True).decode()  # type: ignore[union-attr]


def test_line_ends_of_local_programs_are_mended_and_begin_no_field() -> None:
    """However they are cut: a CR by itself is a blank in the header, and a line end behind it."""
    content = b"Subject: a\rBcc: evil@x.example\nTo: b\n\none\rtwo\nthree\r\n"
    expected = b"Subject: a Bcc: evil@x.example\r\nTo: b\r\n\r\none\r\ntwo\r\nthree\r\n"
    assert local_line_ends(content) == expected
    for step in range(1, len(content) + 1):
        reader = ChunkReader(takes=Takes.LOCAL)
        reader.begin(len(content), last=True)
        portions = [reader.feed(content[at : at + step])[0] for at in range(0, len(content), step)]
        assert b"".join(portions) == expected, step
        assert reader.size == len(expected) and reader.bad is None and reader.form is Form.FIT


async def test_a_mailbox_line_is_no_body(folder: Path, authority: CertificateFiles) -> None:

    async with site(folder, authority) as here:
        text = b"From root Thu Jan  1 00:00:00 2026\r\nSubject: s\r\n\r\nx\r\n"
        await converse(here.port, talk(letter("a@x.example", content=text)))
        (item,) = await here.until_caught(1)
        assert item.file is not None and b"From root" not in item.file.read_bytes()
        assert message_from_bytes(item.file.read_bytes())["Subject"] == "s"


async def test_what_is_odd_about_a_header_is_passed_on_and_told(folder: Path, authority: CertificateFiles) -> None:
    """Also of a message in portions; and nothing of one that is as it should be."""
    good = b"Date: 29 Nov 2026 09:00 +0000\r\nSubject: s\r\n"
    headers = {
        b"From: a@x.example\r\nFrom: b@x.example\r\nMessage-ID: <a@b>\r\nMessage-ID: <c@d>\r\n": "the header has 2 From"
        " fields and 2 Message-ID fields",
        b"Date: yesterday\r\n": "the header has a Date that cannot be read",
        good: None,
    }

    async with site(folder, authority) as here:
        for body in (b"x\r\n", b"line\r\n" * 90_000):
            some = [letter("a@x.example", content=header + b"\r\n" + body) for header in headers]
            await converse(here.port, talk(*some))
        await here.until_caught(6)
        await here.until(lambda reader: reader.totals() == {State.RELAYED: 6})
        told = [
            next((line.text for line in tell_story(record, {}, running=True).lines if line.what == "remark"), None)
            for record in records(here)
        ]
        assert told == [*headers.values()] * 2
        assert sum(b"Date: yesterday" in message.file.read_bytes() for message in here.caught if message.file) == 2


@pytest.mark.data_folder
async def test_what_may_not_be_changed_goes_as_it_is(folder: Path, authority: CertificateFiles) -> None:
    """Where the next hop takes it; else it fails with its reply."""
    signed = next(message for name, message, _ in CORPUS if name == "signed")

    async def live(takes: Takes) -> tuple[bytes, list[State]]:
        async with site(folder / takes.name, authority, limits=Limits(takes=takes)) as here:
            await converse(here.port, talk(letter("a@x.example", content=signed)))
            await here.until(lambda reader: not reader.queue((State.QUEUED,)))
            kept = here.caught[0].file.read_bytes() if here.caught and here.caught[0].file else b""
            states = [
                recipient.state
                for record in records(here)
                for recipient in record.recipients
                if record.message.listener
            ]
            return kept, states

    for takes, state in ((Takes.MENDABLE, State.RELAYED), (Takes.FIT, State.FAILED)):
        (folder / takes.name).mkdir()
        content, states = await live(takes)
        assert states == [state]
        if takes is Takes.MENDABLE:
            assert content.endswith(signed.partition(b"\r\n\r\n")[2])


@pytest.mark.parametrize(
    ("way", "state"), [("refuse", State.FAILED), ("pass", State.FAILED), ("encode", State.RELAYED)]
)
async def test_a_connector_says_what_becomes_of_them(
    folder: Path, authority: CertificateFiles, way: str, state: State
) -> None:

    async with site(folder, authority, extra="") as here:
        text = here.loaded.path.read_text().replace('name = "beacon"\n', f'name = "beacon"\nlong_lines = "{way}"\n')
        here.loaded.path.write_text(text)
        await here.service.reload(load_configuration(here.loaded.path))
        await converse(here.port, talk(letter("a@x.example", content=b"\r\n" + b"x" * 5000 + b"\r\n")))
        await here.until(lambda reader: not reader.queue((State.QUEUED, State.DELAYED)))
        (record,) = [item for item in records(here) if item.message.listener]
        assert record.recipients[0].state is state
        if way == "refuse":
            assert record.attempts[0].cause == "long lines" and record.recipients[0].reply.startswith("554 5.6.1")


async def test_a_bare_line_end_is_refused_with_its_line_and_a_strict_listener_refuses_the_rest(
    folder: Path, authority: CertificateFiles
) -> None:
    """W-02: nothing can be smuggled; over TCP it stays so."""
    content = b"Subject: s\r\n\r\nx\r\n" * 3

    async with site(folder, authority, tls="off") as here:
        heard = await converse(here.port, talk(letter("a@x.example", content=content + b"bare\nline\r\n")))
        assert b"550 5.6.0 line 10: the message holds a CR or LF on its own" in heard
        text = here.loaded.path.read_text().replace('name = "programs"\n', 'name = "programs"\nstrict = true\n')
        here.loaded.path.write_text(text)
        await here.service.reload(load_configuration(here.loaded.path))
        for bad in (b"x" * 999, b"a\0b"):
            heard = await converse(here.port, talk(letter("a@x.example", content=content + bad + b"\r\n")))
            assert codes(heard)[5] == b"554"


PERL = """use Net::SMTP; my ($port, $file) = @ARGV; open my $mail, '<', $file or die;
my $smtp = Net::SMTP->new('127.0.0.1', Port => $port) or die; $smtp->mail('a@ternferries.example') or die;
$smtp->to('r4@passenger.example') or die; $smtp->data(do { local $/; <$mail> }) or die; $smtp->quit;"""


def ways(port: int, file: Path) -> list[list[str]]:
    """Commands of this machine that hand a file in."""
    curl = ["curl", "-sS", f"smtp://127.0.0.1:{port}", "--mail-from", "a@ternferries.example"]
    curl += ["--mail-rcpt", "r5@passenger.example", "-T", str(file)]
    result = [curl, ["perl", "-e", PERL, str(port), str(file)]]
    return [words for words in result if shutil.which(words[0])]


async def test_common_clients_hand_in_a_long_line(folder: Path, authority: CertificateFiles) -> None:
    """`smtplib`, `kite pipe`, a session on standard input with bare LF: all of it arrives."""
    line = b"y" * 5000
    text = b"Subject: s\n\n" + line + b"\n"

    def test(config: Path, port: int) -> None:
        with smtplib.SMTP("127.0.0.1", port) as client:
            client.sendmail("a@ternferries.example", ["r1@passenger.example"], text.replace(b"\n", b"\r\n"))
        said = b"EHLO x\nMAIL FROM:<a@t.example>\nRCPT TO:<r3@passenger.example>\nDATA\n" + text + b".\nQUIT\n"
        for words, stdin in ((["r2@passenger.example"], text + b"a\rb\0c\n"), (["-bs"], said)):
            command = ["kite", "--config", str(config), "pipe", *words]
            assert subprocess.run(command, input=stdin, env=environment(), check=False).returncode == 0
        (folder / "mail.eml").write_bytes(text.replace(b"\n", b"\r\n"))
        for command in ways(port, folder / "mail.eml"):
            subprocess.run(command, check=True, capture_output=True, timeout=60)

    async with smart_host(folder, authority) as (hop, caught):
        config = write_site(folder, hop)
        port = load_configuration(config).settings.listener[0].bind[0].port
        with running(config):
            await asyncio.to_thread(test, config, port)
            for _ in range(3 + len(ways(port, folder))):
                item = await take(caught)
                assert item.file is not None
                content = item.file.read_bytes()
                (_, payload), *_ = decoded(content)
                assert longest(content) <= 998 and payload is not None and line in payload
