"""Next hops that misbehave: by chance, and in the ways that were met. Rows C-07, C-09, C-10, C-12, C-18, C-22."""

from __future__ import annotations

import asyncio
import errno
from collections.abc import Callable
from dataclasses import dataclass, field

import pytest

from copper_kite.net.server import LATER, Answer, Handler, ServerSession
from copper_kite.net.session_registry import SessionRegistry
from copper_kite.smtp import events
from copper_kite.smtp.extensions import Offers
from copper_kite.smtp.replies import Reply
from tests.hostile.clients import WHOLE, Caller, hand_in
from tests.hostile.delivery import Scene, deliver, loaded, play
from tests.hostile.peer import Host, Peer
from tests.hostile.virtual import End, Link, RandomChoices, VirtualLoop, run

PIPELINING = (b"PIPELINING", b"SIZE 10000")
Say = Callable[["OddPeer"], bytes | list[tuple[bytes, float]] | None]  # replies with the seconds before each


@dataclass
class OddHost(Host):
    """A server that says `odd` things at some stages (None: it closes), and behaves at the others."""

    odd: dict[str, Say] = field(default_factory=dict)

    def answer(self, host: str, port: int) -> OddPeer:
        self.opened += 1
        return OddPeer(self)


class OddPeer(Peer):
    """One of its sessions. `number` counts the messages."""

    def _answer(self, stage: str, usual: bytes | None = None) -> bytes:
        odd = self._host.odd.get(stage)  # type: ignore[attr-defined]
        if odd is None:
            return super()._answer(stage, usual)
        said = odd(self)
        if said is None:
            self._close()
            return b""
        replies = [(said, 0.0)] if isinstance(said, bytes) else said
        for reply, pause in replies:
            self._reply(reply, pause)
        return replies[0][0]

    @property
    def number(self) -> int:
        return self._messages


def says(reply: bytes) -> Say:
    return lambda peer: reply


def scene(
    messages: list[list[str]],
    *hosts: dict[str, Say],
    extensions: tuple[bytes, ...] = PIPELINING,
    most_sessions: int = 99,
    most_messages: int = 99,
    sessions: int = 5,
    takes: float = 0.0,
    missing: Callable[[str], type[OSError] | None] = lambda address: None,
) -> Scene:
    """Hand messages to a delivery whose next hop has one address for each of `hosts`."""

    async def live(loop: VirtualLoop) -> Scene:
        made = [
            OddHost(RandomChoices(1), loop, 0, extensions, False, most_sessions, most_messages, odd=odd)
            for odd in hosts or ({},)
        ]
        names = {f"192.0.2.{number}": host for number, host in enumerate(made)}
        loop.addresses["h0.example"] = list(names)

        def answer(address: str, port: int) -> End:
            if (error := missing(address)) is not None:
                raise error(errno.ECONNREFUSED, "refused")
            return names[address].answer(address, port)

        loop.answer = answer
        return await play(loop, loaded(1, sessions, False), made, messages, lambda: takes)  # type: ignore[arg-type]

    return run(live)  # type: ignore[no-any-return]


ONE = [["a@x.example", "b@x.example"]]


@pytest.mark.parametrize("first", range(0, 900, 300))
def test_whatever_peers_do_by_chance(first: int) -> None:
    """Relayed if and only if taken; copies at most one more for each uncertain end; nothing stuck, nothing spinning."""
    for seed in range(first, first + 300):
        try:
            deliver(RandomChoices(seed)).check()
        except AssertionError as error:
            raise AssertionError(f"seed {seed}: {error}") from error


def test_whatever_clients_do_by_chance() -> None:
    """S-43, W-02, W-15: what was answered is kept once and whole, nothing else is, and no session is left behind."""
    for seed in range(400):
        try:
            hand_in(RandomChoices(seed))
        except AssertionError as error:
            raise AssertionError(f"seed {seed}: {error}") from error


def test_an_answer_for_a_client_that_is_just_going_reaches_no_other() -> None:
    """Between a reset and what the session hears of it, to write is an error; the writer's answers go on."""

    async def live(loop: VirtualLoop) -> None:
        session = ServerSession("q.example", Offers(), Waiting(), SessionRegistry())
        caller = Caller(loop, RandomChoices(1))
        caller.link = Link(loop, session, caller)
        session.connection_made(caller.link)
        caller.link.say(b"EHLO a\r\n" + WHOLE)
        await asyncio.sleep(0.1)
        assert session.awaits_answer
        caller.link.shut(reset=True)
        session.answer(Reply(250, "2.0.0", "kept as 0D42EA4W00"))

    run(live)


class Waiting(Handler):
    """The answer to a message comes later."""

    def content_ended(self, event: events.ContentEnded) -> Answer:
        return LATER


@pytest.mark.parametrize("extensions", [PIPELINING, (b"CHUNKING", *PIPELINING), (b"CHUNKING",), ()])
@pytest.mark.parametrize("end", [b"550 5.7.1 never", b"451 4.3.0 later"])
@pytest.mark.parametrize("twice", ["RCPT", "MAIL"])
def test_a_reply_too_many_is_never_taken_for_the_acceptance_of_content(
    extensions: tuple[bytes, ...], end: bytes, twice: str
) -> None:
    """Two `250` for each RCPT, or MAIL, and the content refused: nobody is recorded as relayed."""
    odd = {"RCPT": says(b"250 ok\r\n250 ok"), "end": says(end)}
    if twice == "MAIL":
        odd["MAIL"] = says(b"250 ok\r\n250 ok")
    result = scene(ONE, odd, extensions=extensions)
    result.check()
    assert not result.relayed


def test_a_reply_before_the_end_of_content_is_no_reply_to_it() -> None:
    """It comes with the 354 of the second message, while the result of the first is being written."""
    odd: dict[str, Say] = {
        "DATA": lambda peer: [(b"354 go on", 0.0), (b"250 2.0.0 taken", 0.01)] if peer.number == 2 else b"354 go on",
        "end": lambda peer: b"550 never" if peer.number == 2 else b"250 taken",
    }
    result = scene([["a@x.example"], ["b@x.example"]], odd, takes=0.5, sessions=1)
    result.check()
    assert result.relayed == 2 and result.hosts[0].opened == 2, "on a fresh session it is the first one, and is taken"


@pytest.mark.parametrize("stage", ["greet", "EHLO", "MAIL", "RCPT", "DATA", "end", "RSET"])
@pytest.mark.parametrize(
    "reply",
    [
        b"354 go on",
        b"220 x\r\n250 again",
        b"250 ok\r\n451 or not",
        b"354 go on\r\n250 taken",
        b"199 what",
        b"no reply",
        b"421 4.3.2 bye",
    ],
)
def test_no_reply_leaves_a_message_stuck(stage: str, reply: bytes) -> None:
    """Every message has a recorded attempt, waits as any other does, and ends with its lifetime."""
    if (stage, reply) == ("DATA", b"354 go on"):
        return  # the one that is right
    for extensions in (PIPELINING, ()):
        result = scene(ONE, {stage: says(reply)}, extensions=extensions)
        result.check()
        assert result.relayed == (2 if stage == "RSET" else 0)
        assert result.store.recorded >= 1


def test_a_session_that_ends_in_the_middle_of_a_pipeline(monkeypatch: pytest.MonkeyPatch) -> None:
    """Closed behind the 354 of its second message, or with a 421 for one of a group: the message goes on a fresh one."""
    closed = {"DATA": lambda peer: b"354 go on" if peer.number == 1 else None}
    for odd in (
        closed,
        {"RCPT": lambda peer: b"250 ok" if peer.number == 1 else b"421 4.3.2 bye"},
        {"MAIL": lambda peer: b"250 ok" if peer.number == 1 else b"421 4.3.2 bye"},
        {"MAIL": lambda peer: b"250 ok" if peer.number == 1 else None},
    ):
        result = scene([[f"r@m{n}.example"] for n in range(20)], odd, sessions=1)
        result.check()
        assert result.relayed == 20 and result.seconds < 1.0, "none of them waits"
        assert result.hosts[0].opened <= 20


def test_a_host_that_takes_one_session_and_ends_it_after_five_messages() -> None:
    """421 for each one more: that lowers the number of sessions, and is no failure of the host."""
    result = scene([[f"r@m{n}.example"] for n in range(100)], most_sessions=1, most_messages=5)
    result.check()
    assert result.relayed == 100 and result.seconds < 1.0
    assert result.hosts[0].opened < 30 and sum(" sessions " in line for line in result.lines) == 1
    assert not any(" delayed " in line for line in result.lines)


def test_a_421_for_each_message_costs_one_session_and_not_one_for_each() -> None:
    """The first one says that the host does not take mail now: the others wait with it."""
    result = scene([[f"r@m{n}.example"] for n in range(200)], {"MAIL": says(b"421 4.3.2 not now")})
    result.check()
    assert result.hosts[0].opened < 12 and not result.relayed


def test_a_host_that_breaks_each_session_counts_as_down_after_three() -> None:
    result = scene([[f"r@m{n}.example"] for n in range(200)], {"MAIL": lambda peer: None})
    result.check()
    assert result.hosts[0].opened < 30 and not result.relayed


def test_one_message_that_breaks_its_session_holds_up_no_other() -> None:
    """A next hop that cannot live with one of them: the others leave at once."""
    result = scene([["r@m0.example"], ["poison@x.example"], *([f"r@m{n}.example"] for n in range(2, 30))],
                  {"RCPT": lambda peer: None if "poison@x.example" in peer._named else b"250 ok"}, sessions=1)  # fmt: skip
    result.check()
    assert result.relayed == 29 and max(result.relayed_after) < 1.0


def test_a_size_that_is_no_number() -> None:
    result = scene(ONE, extensions=("SIZE ²".encode(), b"PIPELINING"))
    result.check()
    assert result.relayed == 2 and result.hosts[0].opened == 1


BAD_ADDRESSES: dict[str, dict[str, Say]] = {
    "greets with 421": {"greet": says(b"421 4.3.2 busy")},
    "greets with 554": {"greet": says(b"554 5.7.1 no")},
    "closes": {"greet": lambda peer: None},
    "says nonsense": {"greet": says(b"SSH-2.0-x")},
    "refuses EHLO with 421": {"EHLO": says(b"421 4.3.2 busy")},
    "closes at EHLO": {"EHLO": lambda peer: None},
}


@pytest.mark.parametrize("fault", BAD_ADDRESSES)
def test_the_next_address_of_a_host_is_tried(fault: str) -> None:
    """C-12, RFC 5321 5.1: within one attempt; and the bad one comes last from then on."""
    result = scene([[f"r@m{n}.example"] for n in range(7)], BAD_ADDRESSES[fault], {}, sessions=1, most_messages=1)
    result.check()
    bad, good = result.hosts
    assert result.relayed == 7 and (bad.opened, good.opened) == (1, 7)


def test_an_address_that_swallows_packets_costs_a_quarter_of_a_second() -> None:
    """RFC 8305 5; and one that refuses costs nothing."""
    for error, seconds in ((TimeoutError, 0.3), (ConnectionRefusedError, 0.01)):
        result = scene(ONE, {}, {}, missing=lambda address, error=error: error if address == "192.0.2.0" else None)
        result.check()
        assert result.relayed == 2 and result.seconds < seconds


@pytest.mark.parametrize("code", [500, 501, 502, 503, 504, 550])
def test_a_server_that_knows_no_ehlo_gets_helo(code: int) -> None:
    """C-19: and no parameter of an extension."""
    result = scene(ONE, {"EHLO": says(b"%d what" % code)})
    result.check()
    assert result.relayed == 2
