"""Fuzz the server's engine: `python fuzz/server_engine.py -max_total_time=60` (arguments are libFuzzer's).

Whatever comes, it raises nothing, answers in lines that every client can read, holds a bounded number of octets, gives
events in an order that makes sense, and answers alike however the octets are cut.
"""

from __future__ import annotations

import re
import sys

import atheris

with atheris.instrument_imports(include=["copper_kite.smtp"]):
    from copper_kite.smtp import MAX_TEXT_LINE, Limits, Offers, Phase, PlainLogin, Reply, Secret, Server, events

REPLY = re.compile(rb"(?:[2345][0-5][0-9](?:-[ -~]*\r\n))*[2345][0-5][0-9](?: [ -~]*)?\r\n")
REFUSED = Reply(550, "5.7.1", "no")
WORDS = [
    b"EHLO a\r\n", b"HELO a\r\n", b"MAIL FROM:<a@b.example>", b"RCPT TO:<c@d.example>", b" SIZE=3", b" BODY=8BITMIME",
    b" SMTPUTF8", b" RET=FULL", b" ENVID=x", b" NOTIFY=NEVER", b" ORCPT=rfc822;a", b"\r\n", b"\n", b"\r", b"DATA\r\n",
    b".\r\n", b"\r\n.\r\n", b"BDAT 3\r\n", b"BDAT 2 LAST\r\n", b"RSET\r\n", b"NOOP\r\n", b"AUTH PLAIN ",
    b"AGEAYg==\r\n",
    b"AUTH LOGIN\r\n", b"*\r\n", b"STARTTLS\r\n", b"QUIT\r\n", b"VRFY a\r\n", b"x" * 1001, b"\0", b"\xff",
]  # fmt: skip

ENVELOPE = b"EHLO a\r\nMAIL FROM:<a@b.example>\r\nRCPT TO:<c@d.example>\r\n"
BEGUN = [b"", b"EHLO a\r\n", ENVELOPE, ENVELOPE + b"DATA\r\n", ENVELOPE + b"BDAT 9\r\n", b"EHLO a\r\nAUTH LOGIN\r\n"]


class Talk:
    """A session whose owner refuses some of what it is asked."""

    def __init__(self, refuse: int) -> None:
        offers = Offers(max_size=5000, starttls=True, logins=("PLAIN", "LOGIN", "SCRAM-SHA-256"), clear_logins=True)
        self.engine = Server("q.example", offers, Limits(recipients=100, patience=20))
        self.refuse = refuse
        self.asked = 0
        self.in_message = False
        self.engine.greet()
        self.heard = self.engine.data_to_send()

    def say(self, octets: bytes) -> None:
        event = self.engine.receive_data(octets)
        while event is not None or self.engine.more:
            if event is None:  # others had their turn
                event = self.engine.next_event()
                continue
            self._check(event)
            self.asked += event.asks
            event = self.engine.answer(self._answer(event)) if event.asks else self.engine.next_event()
            if self.engine.phase is Phase.SECURING:
                self.engine.tls_established()
        self.heard += self.engine.data_to_send()
        assert self.engine.buffered <= len(octets) + 14_000, "it holds more than a line"

    def _answer(self, event: events.Event) -> Reply | None:
        if isinstance(event, events.LoginAsked):
            login = event.login
            good = isinstance(login, PlainLogin) and login.password == Secret("b")
            return None if good else Reply(535, "5.7.8", "no")
        return REFUSED if self.refuse >> (self.asked % 16) & 1 else None

    def _check(self, event: events.Event) -> None:
        if isinstance(event, events.RecipientTo | events.ContentStarted | events.ChunksStarted):
            assert self.in_message
        if isinstance(event, events.MailFrom | events.RecipientTo):
            assert not re.search(r"[\r\n\0]", event.path + event.esmtp_parameters)
        if isinstance(event, events.Content | events.ContentEnded):
            assert b"\0" not in event.data
            assert not re.search(rb"(?<!\r)\n|\r(?!\n)", event.data), "a CR or LF of its own came through"
            assert all(len(line) <= MAX_TEXT_LINE for line in event.data.split(b"\r\n"))
        self.in_message = isinstance(event, events.MailFrom) or (
            self.in_message and not isinstance(event, events.Reset | events.Hello | events.ContentEnded | events.Quit)
        )


def one_input(data: bytes) -> None:
    """Octets made of words and of noise; said at once, and cut in two places."""
    provider = atheris.FuzzedDataProvider(data)
    refuse, first, second = provider.ConsumeInt(2), provider.ConsumeInt(2), provider.ConsumeInt(2)
    parts: list[bytes] = []
    while provider.remaining_bytes() and len(parts) < 60:
        number = provider.ConsumeIntInRange(0, len(WORDS) + 8)
        parts.append(WORDS[number] if number < len(WORDS) else provider.ConsumeBytes(number - len(WORDS) + 1))
    octets = BEGUN[refuse % len(BEGUN)] + b"".join(parts)
    whole, cut = Talk(refuse), Talk(refuse)
    whole.say(octets)
    place, other = sorted((abs(first) % (len(octets) + 1), abs(second) % (len(octets) + 1)))
    for portion in (octets[:place], octets[place:other], octets[other:]):
        if portion:
            cut.say(portion)
    assert REPLY.sub(b"", whole.heard) == b"", whole.heard
    # What was said in clear behind STARTTLS is thrown away: then it matters how it was cut.
    if b"220 2.0.0" not in whole.heard[5:]:
        assert alike(whole.heard) == alike(cut.heard)


def alike(heard: bytes) -> bytes:
    """Challenges hold chance; and of content with two faults, that is told which is met first."""
    heard = re.sub(rb"334 [^\r]{20,}", b"334", heard)
    return re.sub(rb"55[024] 5\.(?:6\.0|3\.4) (?:line \d+: )?the message [^\r]*", b"55x the message", heard)


if __name__ == "__main__":
    atheris.Setup(sys.argv, one_input)
    atheris.Fuzz()
