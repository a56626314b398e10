"""The outcome of one attempt for one recipient, and which notices are wanted about it."""

from __future__ import annotations

from dataclasses import dataclass

from copper_kite.smtp import Reply
from copper_kite.store import Recipient
from copper_kite.words import Cause, Stage, State

__all__ = ["RecipientOutcome", "parameter_value", "wants"]


@dataclass(slots=True)
class RecipientOutcome:
    """The result of one recipient: its state and the reason."""

    recipient: Recipient
    state: State
    stage: Stage
    cause: Cause
    reply: Reply | None
    text: str
    next_try: float | None = None
    sent: bool = True  # whether this was an attempt, and not only a wait
    shown: str = ""  # in place of the reply, where somebody else got it

    @property
    def said(self) -> str:
        """The reply, or our own words where there is none."""
        return self.shown or (str(self.reply) if self.reply is not None else self.text)


def parameter_value(parameters: str, key: str) -> str:
    """The value of one of the `parameters` (see `Message.esmtp_parameters`), empty when it is not there."""
    return next((word.partition("=")[2] for word in parameters.split() if word.partition("=")[0] == key), "")


def wants(parameters: str, condition: str) -> bool:
    """Whether a notice is requested on SUCCESS, FAILURE or DELAY; by default on the last two (RFC 3461 4.1, 5.2.5)."""
    notify = parameter_value(parameters, "NOTIFY").upper()
    return condition in notify.split(",") if notify else condition != "SUCCESS"
