"""SASL from the client's side: which mechanism to take, and what to answer (RFC 4954, RFC 4422).

A mechanism's `first` is its initial response (None: the server speaks first), `next` the answer to each challenge, and
`proven` whether a positive reply may be believed: with SCRAM only after the server has proved itself too.
"""

from __future__ import annotations

import hmac
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from copper_kite.errors import ProtocolViolation
from copper_kite.smtp.sasl import SCRAM_LEAST, Binding, Secret, decode_base64, prepare, scram_proof

__all__ = ["CLEAR_TEXT", "MECHANISMS", "LoginCredentials", "Mechanism", "choose", "pick"]

_SERVER_FIRST = re.compile(r"r=([^,]+),s=([A-Za-z0-9+/=]+),i=([1-9][0-9]{0,9})(?:,.*)?")


@dataclass(frozen=True, slots=True)
class LoginCredentials:
    """What there is to log in with. `host` and `port` are the server's; `set_deadline` ties the login to its TLS."""

    login: str
    password: Secret | None = None
    token: Secret | None = None
    host: str = ""
    port: int = 0
    nonce: str = ""
    bound: Binding | None = None
    max_iterations: int = 1_000_000  # of SCRAM: more is an attack on our time


class Mechanism:
    """One login attempt. `slow` says that `next` takes long, on purpose."""

    slow = False

    def __init__(self, means: LoginCredentials) -> None:
        self._means = means
        self.proven = True

    @property
    def binds_in_vain(self) -> bool:
        """Whether it failed only since the server does not know the kind of binding that we have (RFC 5802 7)."""
        return False

    @property
    def _password(self) -> str:
        return self._means.password.reveal() if self._means.password is not None else ""

    @property
    def _token(self) -> str:
        return self._means.token.reveal() if self._means.token is not None else ""

    def first(self) -> bytes | None:
        """The initial response."""
        raise NotImplementedError

    def next(self, challenge: bytes) -> bytes:
        """The answer to a challenge. Raises ProtocolViolation for one that no right server gives."""
        raise ProtocolViolation("a challenge that this mechanism does not have", challenge)


class Plain(Mechanism):
    """RFC 4616."""

    def first(self) -> bytes | None:
        return f"\0{self._means.login}\0{self._password}".encode()

    def next(self, challenge: bytes) -> bytes:
        if challenge:
            return super().next(challenge)
        return self.first() or b""  # where the initial response was too long to go with AUTH


class Login(Mechanism):
    """No RFC; framed by RFC 4954. The prompts count by their order, not by their words."""

    def __init__(self, means: LoginCredentials) -> None:
        super().__init__(means)
        self._answers = [means.login, self._password]

    def first(self) -> bytes | None:
        return None

    def next(self, challenge: bytes) -> bytes:
        if not self._answers:
            return super().next(challenge)
        return self._answers.pop(0).encode()


class CramMd5(Mechanism):
    """RFC 2195: the password itself does not travel, but whoever listens can try passwords out."""

    def first(self) -> bytes | None:
        return None

    def next(self, challenge: bytes) -> bytes:
        digest = hmac.new(self._password.encode(), challenge, "md5").hexdigest()
        return f"{self._means.login} {digest}".encode()


class OAuthBearer(Mechanism):
    """RFC 7628. After the error's JSON comes one octet, and then the refusal (3.2.3)."""

    def first(self) -> bytes | None:
        means = self._means
        where = f"\x01host={means.host}\x01port={means.port}" if means.host else ""
        return f"n,a={_escaped(means.login)},{where}\x01auth=Bearer {self._token}\x01\x01".encode()

    def next(self, challenge: bytes) -> bytes:
        return (self.first() or b"") if not challenge else b"\x01"


class XOAuth2(Mechanism):
    """No RFC; what some providers had before RFC 7628."""

    def first(self) -> bytes | None:
        return f"user={self._means.login}\x01auth=Bearer {self._token}\x01\x01".encode()

    def next(self, challenge: bytes) -> bytes:
        return (self.first() or b"") if not challenge else b""


class Scram(Mechanism):
    """RFC 5802, RFC 7677: both sides prove that they know the password; with a binding, over this very TLS."""

    slow = True

    def __init__(self, means: LoginCredentials, digest: str, header: str, bound: bytes) -> None:
        super().__init__(means)
        self.proven = False
        self._digest = digest
        self._header = header
        self._bound = bound
        self._bare = f"n={_escaped(prepare(means.login))},r={means.nonce}"
        self._expected = b""
        self.error = ""

    def first(self) -> bytes | None:
        return f"{self._header}{self._bare}".encode()

    def next(self, challenge: bytes) -> bytes:
        if not self._expected:
            return self._final(challenge) if challenge else (self.first() or b"")
        text = challenge.decode("utf-8", "replace")
        if text.startswith("e="):
            self.error = text[2:]
            return b""  # the refusal follows
        if not text.startswith("v=") or not hmac.compare_digest(_decoded(text[2:]), self._expected):
            raise ProtocolViolation("the server does not know the password that it checks", challenge)
        self.proven = True
        return b""

    @property
    def binds_in_vain(self) -> bool:
        """Whether the server does not know the kind of binding that we have."""
        return self.error == "unsupported-channel-binding-type"

    def _final(self, challenge: bytes) -> bytes:
        text = challenge.decode("utf-8", "replace")
        if text.startswith("e="):
            self.error = text[2:]
            return b""
        match = _SERVER_FIRST.fullmatch(text)
        if match is None or not match[1].startswith(self._means.nonce) or match[1] == self._means.nonce:
            raise ProtocolViolation("not a SCRAM challenge for us", challenge)
        iterations = int(match[3])
        if not SCRAM_LEAST <= iterations <= self._means.max_iterations:
            raise ProtocolViolation(f"SCRAM with {iterations} iterations", challenge)
        without = f"c={_base64(self._header.encode() + self._bound)},r={match[1]}"
        message = f"{self._bare},{text},{without}".encode()
        password = self._means.password or Secret("")
        proof, self._expected = scram_proof(password, _decoded(match[2]), iterations, self._digest, message)
        return f"{without},p={_base64(proof)}".encode()


def _escaped(login: str) -> str:
    """A saslname (RFC 5802 5.1)."""
    return login.replace("=", "=3D").replace(",", "=2C")


def _base64(octets: bytes) -> str:
    import base64

    return base64.b64encode(octets).decode()


def _decoded(text: str) -> bytes:
    from copper_kite.smtp.grammar import Syntax

    try:
        return decode_base64(text.encode())
    except Syntax as error:
        raise ProtocolViolation("not base64 in a SCRAM message", text.encode()) from error


def _scram(digest: str, *, plus: bool) -> Callable[[LoginCredentials, bool], Mechanism | None]:
    def make(means: LoginCredentials, plus_offered: bool) -> Mechanism | None:
        if means.password is None:
            return None
        if plus:
            if means.bound is None:
                return None
            return Scram(means, digest, f"p={means.bound.kind},,", means.bound.data)
        # `y`: we could bind, and the server did not offer it; if it did, somebody in the middle took that out
        return Scram(means, digest, "n,," if means.bound is None or plus_offered else "y,,", b"")

    return make


def _with_password(
    kind: Callable[[LoginCredentials], Mechanism],
) -> Callable[[LoginCredentials, bool], Mechanism | None]:
    return lambda means, plus: kind(means) if means.password is not None else None


def _with_token(kind: Callable[[LoginCredentials], Mechanism]) -> Callable[[LoginCredentials, bool], Mechanism | None]:
    return lambda means, plus: kind(means) if means.token is not None else None


# The strongest first.
MECHANISMS: dict[str, Callable[[LoginCredentials, bool], Mechanism | None]] = {
    "SCRAM-SHA-256-PLUS": _scram("sha256", plus=True),
    "SCRAM-SHA-1-PLUS": _scram("sha1", plus=True),
    "SCRAM-SHA-256": _scram("sha256", plus=False),
    "SCRAM-SHA-1": _scram("sha1", plus=False),
    "OAUTHBEARER": _with_token(OAuthBearer),
    "XOAUTH2": _with_token(XOAuth2),
    "CRAM-MD5": _with_password(CramMd5),
    "PLAIN": _with_password(Plain),
    "LOGIN": _with_password(Login),
}
CLEAR_TEXT = frozenset({"PLAIN", "LOGIN", "OAUTHBEARER", "XOAUTH2"})


def choose(
    offered: Sequence[str], allowed: Sequence[str], means: LoginCredentials, *, unbound: bool = False
) -> tuple[str, Mechanism] | None:
    """The strongest mechanism that is offered, allowed (empty: any) and possible with `means`; None without one.

    With `unbound`, none that binds the login to its TLS, which was tried.
    """
    plus_offered = any(name.endswith("-PLUS") for name in offered)
    for name, make in MECHANISMS.items():
        if name not in offered or (allowed and name not in allowed) or (unbound and name.endswith("-PLUS")):
            continue
        if (found := make(means, plus_offered)) is not None:
            return name, found
    return None


def pick(allowed: Sequence[str], means: LoginCredentials) -> list[str]:
    """The mechanisms that could be taken, were they offered: for words about why none was."""
    return [name for name, make in MECHANISMS.items() if (not allowed or name in allowed) and make(means, False)]
