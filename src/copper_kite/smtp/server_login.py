"""AUTH on the server's side of a session: from the command to a login that is checked (RFC 4954 4)."""

from __future__ import annotations

from copper_kite.smtp import events
from copper_kite.smtp.answers import BAD_ORDER, GIVEN_UP, OUT_OF_LOGINS, UNAVAILABLE, challenge
from copper_kite.smtp.extensions import Offers
from copper_kite.smtp.grammar import Syntax
from copper_kite.smtp.limits import Limits
from copper_kite.smtp.order import AFTER, ORDER, Step
from copper_kite.smtp.replies import Reply
from copper_kite.smtp.sasl import MECHANISMS, Challenge, Directory, Exchange, decode_base64
from copper_kite.smtp.server_base import ServerBase

__all__ = ["LoginServer"]


class LoginGivenUp(Syntax):
    """Raised for the `*` with which a client gives a login up (RFC 4954 4)."""


class LoginServer(ServerBase):
    """The part of a session in which a client logs in; `directory` knows who may."""

    def __init__(self, name: str, offers: Offers, limits: Limits, directory: Directory) -> None:
        super().__init__(name, offers, limits)
        self._directory = directory
        self._exchange: Exchange | None = None
        self._failed_logins = 0

    def _auth(self, argument: str) -> None:
        mechanism, _, initial = argument.partition(" ")
        if not self._offers.logins:
            self._refuse(UNAVAILABLE)
        elif self.logged_in:
            self._refuse(Reply(503, "5.5.1", "logged in already"))
        elif Step.LOGIN not in ORDER[self.phase]:
            self._refuse(BAD_ORDER)
        elif not self._offers.may_login(secure=self.secure):
            self._refuse(Reply(538, "5.7.11", "a login needs TLS first"))
        elif not mechanism:
            self._refuse(Reply(501, "5.5.4", "name a mechanism"))
        elif mechanism.upper() not in self._offers.logins:
            self._refuse(Reply(504, "5.5.4", "no such mechanism here"))
        else:
            self.phase = AFTER[Step.LOGIN]
            self._exchange = MECHANISMS[mechanism.upper()].server(self._directory)
            if initial:
                self._take_login_answer(b"" if initial == "=" else initial.encode())
            else:
                self._challenge(self._exchange.opening)

    def _challenge(self, data: bytes) -> None:
        self._out += challenge(data)

    def _take_login_answer(self, line: bytes) -> None:
        assert self._exchange is not None
        try:
            if line == b"*":
                raise LoginGivenUp
            outcome = self._exchange.step(decode_base64(line))
        except Syntax as error:
            self.phase, self._exchange = AFTER[Step.LOGIN_ENDED], None
            given_up = isinstance(error, LoginGivenUp)
            self._refuse(GIVEN_UP if given_up else Reply(501, "5.5.2", f"bad answer: {error}"))
            return
        if isinstance(outcome, Challenge):
            self._challenge(outcome.data)
        else:
            self._exchange, self._asked = None, events.LoginAsked(outcome)

    def _login_accepted(self, event: events.Event) -> None:
        self.logged_in = True

    def _login_refused(self) -> None:
        """Count a refused login; after a few, the session ends."""
        self._tries += 1
        self._failed_logins += 1
        if self._failed_logins >= self._limits.logins:
            self.close(OUT_OF_LOGINS)
