"""The interfaces of both sides of a login attempt, which each mechanism implements (RFC 4422, RFC 4954)."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

from copper_kite.errors import ProtocolViolation
from copper_kite.smtp.sasl.scram_keys import ScramKey
from copper_kite.smtp.sasl.values import Binding, PlainLogin, ProvenLogin, Secret

__all__ = ["Challenge", "Directory", "Exchange", "LoginCredentials", "Mechanism", "NoDirectory", "Outcome"]


@dataclass(frozen=True, slots=True)
class LoginCredentials:
    """Credentials for a login. `host` and `port` are the server's; `binding` ties the login to its TLS session."""

    login: str
    password: Secret | None = None
    token: Secret | None = None
    host: str = ""
    port: int = 0
    nonce: str = ""
    binding: Binding | None = None
    max_iterations: int = 1_000_000  # of SCRAM: more is an attack on our time


class Mechanism:
    """A client's login attempt.

    `first` is its initial response (None: the server speaks first), `next` the answer to each challenge, and `proven`
    whether a positive reply may be believed: with SCRAM only after the server has proved itself too. `slow` says that
    `next` takes long, on purpose.
    """

    slow = False

    def __init__(self, credentials: LoginCredentials) -> None:
        self._credentials = credentials
        self.proven = True
        self.told = ""  # what the server says of a refusal, beside its reply

    @property
    def binds_in_vain(self) -> bool:
        """Whether it failed only since the server does not know the kind of binding that we have (RFC 5802 7)."""
        return False

    @property
    def _password(self) -> str:
        return self._credentials.password.reveal() if self._credentials.password is not None else ""

    @property
    def _token(self) -> str:
        return self._credentials.token.reveal() if self._credentials.token is not None else ""

    def first(self) -> bytes | None:
        """The initial response."""
        raise NotImplementedError

    def next(self, challenge: bytes) -> bytes:
        """The answer to a challenge. Raises ProtocolViolation for one that no right server gives."""
        raise ProtocolViolation("a challenge that this mechanism does not have", challenge)


@dataclass(frozen=True, slots=True)
class Challenge:
    """The challenge that the client must answer next."""

    data: bytes


Outcome = Challenge | PlainLogin | ProvenLogin


class Directory(Protocol):
    """The logins that a server knows. Each answer is for one attempt; None where there is nothing."""

    def nonce(self) -> str:
        """Unpredictable printable characters, without a comma."""

    def scram_key(self, login: str, digest: str) -> tuple[ScramKey, bool]:
        """The key of an account, and True; for an unknown one a key that stays the same, and False (RFC 5802 5)."""

    def password(self, login: str) -> Secret | None:
        """A password in clear, for the mechanisms that need one; servers that keep keys alone have none."""

    def token_holds(self, login: str, token: Secret) -> bool:
        """Whether a bearer token is good."""

    def binding(self, kind: str) -> Binding | None:
        """The channel binding of this session."""


class NoDirectory:
    """A directory without accounts."""

    def nonce(self) -> str:
        raise NotImplementedError

    def scram_key(self, login: str, digest: str) -> tuple[ScramKey, bool]:
        raise NotImplementedError

    def password(self, login: str) -> Secret | None:
        return None

    def token_holds(self, login: str, token: Secret) -> bool:
        return False

    def binding(self, kind: str) -> Binding | None:
        return None


class Exchange:
    """A login attempt at a server, without I/O.

    `step` eats a decoded message of the client and gives the next challenge, a login to check, or one that is checked;
    what it must know of accounts it asks of a `Directory`. `opening` is the challenge that comes first when the client
    sent no initial response.
    """

    opening = b""

    def __init__(self, directory: Directory) -> None:
        self._directory = directory

    def step(self, message: bytes) -> Outcome:
        """The client's next message. Raises Syntax for one that is none of this mechanism's."""
        raise NotImplementedError
