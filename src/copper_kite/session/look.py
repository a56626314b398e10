"""A survey of a smart host before there is a connector: its open ports, their TLS and login mechanisms."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from dataclasses import dataclass

from copper_kite.net import Dialogue, Plan, SessionFailed, Timeouts, open_session
from copper_kite.words import Stage

__all__ = ["Seen", "look_at_host", "safest"]

WAYS = ((465, "implicit"), (587, "starttls"), (2525, "starttls"), (25, "starttls"))  # the safest first: RFC 8314 3.3
QUICK = Timeouts(connect=5.0, secure=5.0, greet=10.0, command=10.0)


@dataclass(frozen=True, slots=True)
class Seen:
    """A port with a form of TLS: the failure of its session (None when it was ready), and the logins it takes."""

    port: int
    tls: str
    failure: SessionFailed | None
    logins: tuple[str, ...]

    @property
    def works(self) -> bool:
        """Whether mail can go there under verified TLS."""
        return self.failure is None

    @property
    def distrusted(self) -> bool:
        """Whether all but the certificate is right: then another `trust` may be what it needs."""
        return self.failure is not None and self.failure.cause.about_certificate

    @property
    def silent(self) -> bool:
        """Whether there is no answer at all."""
        return self.failure is not None and self.failure.stage in (Stage.RESOLVE, Stage.CONNECT)

    def __str__(self) -> str:
        if self.failure is None:
            logins = f"logins {', '.join(self.logins)}" if self.logins else "no login offered"
            return f"works, {logins}"
        return self.failure.text


async def look_at_host(host: str, port: int | None, name: str, trust: str) -> list[Seen]:
    """Try the usual ports at the same time, or `port` in both ways of TLS; no login and no mail is sent."""
    ways = WAYS if port is None else ((port, "implicit"), (port, "starttls"))
    return await asyncio.gather(*(_look(host, number, tls, name, trust) for number, tls in ways))


async def _look(host: str, port: int, tls: str, name: str, trust: str) -> Seen:
    plan = Plan(host=host, port=port, name=name, tls=tls, trust=trust, timeouts=QUICK)
    try:
        session = await open_session(plan, Dialogue(0.0))
    except SessionFailed as failure:
        return Seen(port, tls, failure, ())
    logins = session.capabilities.logins
    await session.close()
    return Seen(port, tls, None, logins)


def safest(seen: Sequence[Seen]) -> Seen | None:
    """The best that works; else the best that only its certificate keeps from working; None when there is neither."""
    return next((item for item in seen if item.works), None) or next((item for item in seen if item.distrusted), None)
