"""The decisions of relaying, as pure functions of values and `now`."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from copper_kite.smtp import Reply
from copper_kite.words import MESSAGE_STAGES, Stage, State

__all__ = ["Retry", "backoff", "classify", "retry_at"]

# These speak of the session between two servers (login or TLS missing), not of the message: the message waits.
SESSION_CODES = frozenset({530, 534, 535, 538})
BAD_SEQUENCE = 503  # at MAIL: the server lacks a login, or has not ended the message before


@dataclass(frozen=True, slots=True)
class Retry:
    """`[retry]` in seconds; `jitter` is the share by which a wait may be longer."""

    waits: Sequence[float]
    jitter: float = 0.1


def classify(stage: Stage, reply: Reply) -> State:
    """The result of a reply for a recipient; the code alone decides (RFC 5321 4.2.1).

    A 5yz fails a recipient only when it speaks of the message. A refused greeting, TLS or login is a matter between
    the servers, which an administrator can mend while the message waits.
    """
    if stage is Stage.ACCEPT and 200 <= reply.code < 300:
        return State.RELAYED
    if not reply.permanent or stage not in MESSAGE_STAGES or reply.code in SESSION_CODES:
        return State.DELAYED
    return State.DELAYED if stage is Stage.SENDER and reply.code == BAD_SEQUENCE else State.FAILED


def retry_at(now: float, attempts: int, expires: float, retry: Retry, chance: float) -> float | None:
    """When to try again after `attempts` attempts, or None when the lifetime is over.

    The last attempt is made at the end of the lifetime, so that nothing expires without having been tried then.
    `chance` in [0, 1) spreads the retries.
    """
    if now >= expires:
        return None
    return min(now + backoff(attempts, retry, chance), expires)


def backoff(failures: int, retry: Retry, chance: float) -> float:
    """How long to wait, in seconds, after so many failures in a row; `chance` in [0, 1) spreads the waits."""
    return retry.waits[min(failures, len(retry.waits)) - 1] * (1 + retry.jitter * chance)
