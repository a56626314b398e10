"""TLS that goes on with an earlier session: only where it was verified, each once, and never with an impostor."""

from __future__ import annotations

import ssl
from contextlib import nullcontext
from pathlib import Path
from typing import Any

import pytest

from copper_kite.net import opening as opening_module
from copper_kite.net import tls
from copper_kite.net.authority import make_authority
from copper_kite.net.dialogue import Dialogue
from copper_kite.net.failure import SessionFailed
from copper_kite.net.opening import open_session
from copper_kite.net.plan import Plan
from copper_kite.net.relaying import RelaySession
from copper_kite.smtp.transaction import Envelope
from copper_kite.words import Cause, Stage
from tests.net.test_opening import LETTER, QUICK, Hop, hop
from tests.support import free_port, scripted


async def opened(here: Hop, earlier: tls.Sessions, *, tls_mode: str = "implicit", trust: str = "") -> RelaySession:
    trust = trust or str(here.folder / "tls" / "ca.pem")
    plan = Plan(host="localhost", port=here.port, name="quay1.example", tls=tls_mode, trust=trust, timeouts=QUICK)
    return await open_session(plan, Dialogue(0.0), earlier)


@pytest.mark.parametrize("newest", ["1.2", "1.3"])
@pytest.mark.parametrize("mode", ["implicit", "starttls"])
async def test_the_second_session_goes_on_with_the_first(folder: Path, newest: str, mode: str) -> None:
    """Under both versions and both ways; its certificate is still known, and it says that it was resumed."""

    earlier = tls.Sessions()
    async with hop(folder, logins=False, tls={"mode": mode, "newest": newest}) as here:
        first = await opened(here, earlier, tls_mode=mode)
        chain = first.chain
        await first.close()
        second = await opened(here, earlier, tls_mode=mode)
        assert (first.resumed, second.resumed) == (False, True)
        assert second.tls_version == f"TLSv{newest}"
        assert second.chain[0] == chain[0]
        assert {stage: said for stage, _, said in second.stages}[Stage.SECURE].endswith(", resumed")
        await second.close()


def test_each_goes_out_once() -> None:
    """RFC 8446 C.4: whoever listens cannot tell that two connections are of the same client."""
    earlier, context = tls.Sessions(), ssl.create_default_context()
    plan = Plan(host="localhost", port=25, name="quay1.example")
    earlier.keep(plan, _Made(context), [])  # type: ignore[arg-type]
    assert earlier.take(plan, context) is not None
    assert earlier.take(plan, context) is None


def test_none_under_another_context_or_after_its_time(monkeypatch: pytest.MonkeyPatch) -> None:
    earlier, context = tls.Sessions(), ssl.create_default_context()
    plan = Plan(host="localhost", port=25, name="quay1.example")
    earlier.keep(plan, _Made(context), [])  # type: ignore[arg-type]
    assert earlier.take(plan, ssl.create_default_context()) is None
    now = 1000.0
    monkeypatch.setattr("time.monotonic", lambda: now)
    earlier.keep(plan, _Made(context), [])  # type: ignore[arg-type]
    now += tls.KEPT_SECONDS
    assert earlier.take(plan, context) is None


class _Made:
    """A TLS that has a session for another time."""

    def __init__(self, context: ssl.SSLContext) -> None:
        self.context = context
        self.session: Any = type("Session", (), {"has_ticket": True, "id": b""})()


async def test_an_impostor_gains_nothing_by_it(folder: Path) -> None:
    """A server that does not know the session shows its certificate, and that is looked at as ever."""

    earlier, trust, other = tls.Sessions(), str(folder / "tls" / "ca.pem"), folder / "other"
    port = free_port()
    async with hop(folder, logins=False, port=port, tls={"mode": "implicit"}) as here:
        await (await opened(here, earlier, trust=trust)).close()
    other.mkdir()
    files = make_authority(other, ["localhost"])
    async with hop(other, logins=False, port=port, files=files, tls={"mode": "implicit"}) as impostor:
        with pytest.raises(SessionFailed) as failed:
            await opened(impostor, earlier, trust=trust)
        assert failed.value.cause is Cause.CERTIFICATE_UNTRUSTED


async def test_a_pin_holds_in_a_resumed_session(folder: Path) -> None:

    earlier = tls.Sessions()
    async with hop(folder, logins=False, tls={"mode": "implicit"}) as here:
        await (await opened(here, earlier, trust=here.certificate)).close()
        second = await opened(here, earlier, trust=here.certificate)
        assert second.resumed and tls.fingerprint(second.chain[0]) == here.certificate
        await second.close()


async def test_content_of_many_records_comes_through(folder: Path) -> None:
    """What TLS takes in several records arrives whole."""

    letter = LETTER + b"A line of the passengers' list, and another one behind it.\r\n" * 20_000
    async with hop(folder, logins=False, tls={"mode": "implicit"}) as here:
        session = await opened(here, tls.Sessions())
        (result,) = await session.relay(
            Envelope("a@x.example", ("b@x.example",), len(letter), False, False), lambda: (letter,)
        )
        assert result.reply.positive
        await session.close()
        assert here.caught[0].size == len(letter)


async def test_what_cannot_go_on_begins_anew_at_once(monkeypatch: pytest.MonkeyPatch) -> None:
    """A server that stumbles over an earlier session is met once more without; any other failure counts as ever."""
    met: list[bool] = []
    broken = False

    async def stumbling(session: RelaySession) -> None:
        assert session._earlier is None or session._earlier is earlier
        session.tried_to_resume = session._earlier is not None and earlier.take(session.plan, context) is not None
        met.append(session.tried_to_resume)
        if session.tried_to_resume or broken:
            raise SessionFailed(Stage.SECURE, Cause.TLS_FAILED, "unexpected message", seen=session.seen())

    context, earlier = ssl.create_default_context(), tls.Sessions()
    monkeypatch.setattr(opening_module, "_make_ready", stumbling)

    async with scripted([b"220 x\r\n", None]) as (port, _):
        plan = Plan(host="127.0.0.1", port=port, name="quay1.example")
        for broken in (False, True):
            earlier.keep(plan, _Made(context), [])  # type: ignore[arg-type]
            for result in ([True, False], [False]):
                with pytest.raises(SessionFailed) if broken else nullcontext():
                    (await open_session(plan, Dialogue(0.0), earlier)).abort()
                assert met == result, "without an earlier session there is nothing to try once more"
                met.clear()
