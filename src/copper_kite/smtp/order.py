"""The order of commands that the server enforces: one table (RFC 5321 4.1.4, RFC 3207 4, RFC 4954 4, RFC 3030 2)."""

from __future__ import annotations

from enum import StrEnum

__all__ = ["AFTER", "ORDER", "Phase", "Step"]


class Phase(StrEnum):
    """The states of a session."""

    FRESH = "before EHLO"
    READY = "between messages"
    SENDER = "after MAIL"
    RECIPIENTS = "after RCPT"
    CONTENT = "in content"
    CHUNKS = "between chunks"
    LOGIN = "in a login"
    SECURING = "before the TLS handshake"
    CLOSED = "over"


class Step(StrEnum):
    """The events that move a session on."""

    HELLO = "EHLO"
    MAIL = "MAIL"
    RCPT = "RCPT"
    DATA = "DATA"
    CHUNK = "BDAT"
    END = "end of content"
    RESET = "RSET"
    LOGIN = "AUTH"
    LOGIN_ENDED = "end of a login"
    SECURE = "STARTTLS"


# An unlisted pair is `503` for a command and a bug for anything else.
ORDER: dict[Phase, dict[Step, Phase]] = {
    Phase.FRESH: {Step.HELLO: Phase.READY, Step.RESET: Phase.FRESH},
    Phase.READY: {
        Step.HELLO: Phase.READY,
        Step.RESET: Phase.READY,
        Step.MAIL: Phase.SENDER,
        Step.LOGIN: Phase.LOGIN,
        Step.SECURE: Phase.SECURING,
    },
    Phase.SENDER: {Step.HELLO: Phase.READY, Step.RESET: Phase.READY, Step.RCPT: Phase.RECIPIENTS},
    Phase.RECIPIENTS: {
        Step.HELLO: Phase.READY,
        Step.RESET: Phase.READY,
        Step.RCPT: Phase.RECIPIENTS,
        Step.DATA: Phase.CONTENT,
        Step.CHUNK: Phase.CHUNKS,
    },
    Phase.CONTENT: {Step.END: Phase.READY},
    Phase.CHUNKS: {
        Step.HELLO: Phase.READY,
        Step.RESET: Phase.READY,
        Step.CHUNK: Phase.CHUNKS,
        Step.END: Phase.READY,
    },
    Phase.LOGIN: {Step.LOGIN_ENDED: Phase.READY},
    Phase.SECURING: {},
    Phase.CLOSED: {},
}

# Where a step leads, wherever it is taken from; but RSET leads back to where the session stood.
AFTER: dict[Step, Phase] = {
    step: phase for steps in ORDER.values() for step, phase in steps.items() if step is not Step.RESET
}
