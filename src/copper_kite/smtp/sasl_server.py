"""SASL from the server's side: one object for each login attempt, without I/O (RFC 4954, RFC 4422).

`step` eats a decoded message of the client and gives the next challenge, a login to check, or one that is checked.
What they must know of accounts they ask of a `Directory`.
"""

from __future__ import annotations

import base64
import hashlib
import hmac
import re
from collections.abc import Callable
from dataclasses import dataclass
from typing import Protocol

from copper_kite.smtp.grammar import Syntax
from copper_kite.smtp.sasl import (
    SCRAM_ITERATIONS,
    Binding,
    PlainLogin,
    ProvenLogin,
    ScramKey,
    Secret,
    decode_base64,
    decode_plain,
)

__all__ = ["EXCHANGES", "Challenge", "Directory", "Exchange", "NoDirectory", "made_up_key"]

_CLIENT_FIRST = re.compile(r"(([ny]|p=([A-Za-z0-9.-]+)),(?:a=([^,]*))?,)n=([^,]+),r=([!-+\--~]+)(?:,.*)?")
_CLIENT_FINAL = re.compile(r"(c=([A-Za-z0-9+/=]+),r=([!-+\--~]+)(?:,[a-ln-z]=[^,]*)*),p=([A-Za-z0-9+/=]+)")


@dataclass(frozen=True, slots=True)
class Challenge:
    """What the client must answer next."""

    data: bytes


Outcome = Challenge | PlainLogin | ProvenLogin


class Directory(Protocol):
    """What a server knows about logins. Each answer is for one attempt; None where there is nothing."""

    def nonce(self) -> str:
        """Printable characters that nobody can foresee, without a comma."""

    def scram_key(self, login: str, digest: str) -> tuple[ScramKey, bool]:
        """The key of an account, and True; for an unknown one a key that stays the same, and False (RFC 5802 5)."""

    def password(self, login: str) -> Secret | None:
        """A password in clear, for the mechanisms that need one; servers that keep keys alone have none."""

    def token_holds(self, login: str, token: Secret) -> bool:
        """Whether a bearer token is good."""

    def binding(self, kind: str) -> Binding | None:
        """What ties this session to its TLS."""


class NoDirectory:
    """Knows nobody."""

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


def made_up_key(login: str, secret: bytes, like: ScramKey | None = None) -> ScramKey:
    """For an account that is not there: always the same one, so that nobody finds out which ones are (RFC 5802 5)."""
    digest = like.digest if like is not None else "sha256"
    salt = hmac.digest(secret, login.encode(), "sha256")[: len(like.salt) if like is not None else 16]
    empty = bytes(hashlib.new(digest).digest_size)
    return ScramKey(like.iterations if like is not None else SCRAM_ITERATIONS, salt, empty, empty, digest)


class Exchange:
    """One login attempt. `opening` is the challenge that comes first when the client sent no initial response."""

    opening = b""

    def __init__(self, directory: Directory) -> None:
        self._directory = directory

    def step(self, message: bytes) -> Outcome:
        """The client's next message. Raises Syntax for one that is none of this mechanism's."""
        raise NotImplementedError


class PlainExchange(Exchange):
    """RFC 4616."""

    def step(self, message: bytes) -> Outcome:
        return decode_plain(message)


class LoginExchange(Exchange):
    """No RFC: two prompts."""

    opening = b"Username:"

    def __init__(self, directory: Directory) -> None:
        super().__init__(directory)
        self._login: str | None = None

    def step(self, message: bytes) -> Outcome:
        text = _text(message)
        if self._login is None:
            self._login = text
            return Challenge(b"Password:")
        if not self._login or not text or "\0" in self._login + text:
            raise Syntax("empty")
        return PlainLogin("", self._login, Secret(text))


class CramMd5Exchange(Exchange):
    """RFC 2195."""

    def __init__(self, directory: Directory) -> None:
        super().__init__(directory)
        self.opening = f"<{directory.nonce()}@localhost>".encode()

    def step(self, message: bytes) -> Outcome:
        login, _, digest = _text(message).rpartition(" ")
        if not login:
            raise Syntax("not a CRAM-MD5 message")
        password = self._directory.password(login)
        right = hmac.new((password or Secret("")).reveal().encode(), self.opening, "md5").hexdigest()
        return ProvenLogin(login, password is not None and hmac.compare_digest(right, digest))


class TokenExchange(Exchange):
    """RFC 7628, and XOAUTH2 before it: a refusal comes only after the client has read why."""

    pattern = re.compile(
        r"n,(?:a=([^,]*))?,(?:\x01[a-z]+=[^\x01]*)*?\x01auth=Bearer ([^\x01]+)\x01(?:[a-z]+=[^\x01]*\x01)*\x01"
    )
    last = b"\x01"

    def __init__(self, directory: Directory) -> None:
        super().__init__(directory)
        self._refused: str | None = None

    def step(self, message: bytes) -> Outcome:
        if self._refused is not None:
            if message != self.last:
                raise Syntax("not the end of a refused login")
            return ProvenLogin(self._refused, False)
        match = self.pattern.fullmatch(_text(message))
        if match is None:
            raise Syntax("not a token login")
        login = (match[1] or "").replace("=2C", ",").replace("=3D", "=")
        if self._directory.token_holds(login, Secret(match[2])):
            return ProvenLogin(login, True)
        self._refused = login
        return Challenge(b'{"status":"invalid_token"}')


class XOAuth2Exchange(TokenExchange):
    """No RFC."""

    pattern = re.compile(r"user=([^\x01]*)\x01auth=Bearer ([^\x01]+)\x01\x01")
    last = b""


class ScramExchange(Exchange):
    """RFC 5802, RFC 7677."""

    digest = "sha256"
    plus = False

    def __init__(self, directory: Directory) -> None:
        super().__init__(directory)
        self._first = b""
        self._header = ""
        self._nonce = ""
        self._login = ""
        self._bound = b""
        self._key: ScramKey | None = None
        self._known = False
        self._proven: ProvenLogin | None = None

    def step(self, message: bytes) -> Outcome:
        if self._proven is not None:
            if message:
                raise Syntax("something behind the end of a login")
            return self._proven
        return self._begin(_text(message)) if self._key is None else self._end(_text(message), self._key)

    def _begin(self, text: str) -> Outcome:
        match = _CLIENT_FIRST.fullmatch(text)
        if match is None or (match[3] is not None) is not self.plus:
            raise Syntax("not a SCRAM message")
        self._header, flag, kind, acts_for, name, nonce = match.groups()
        self._login = name.replace("=2C", ",").replace("=3D", "=")
        binding = self._directory.binding(kind) if kind else None
        if kind and binding is None:
            return self._refuse(b"e=unsupported-channel-binding-type")
        if flag == "y" and self._directory.binding("") is not None:  # PLUS was taken out on the way
            return self._refuse(b"e=server-does-support-channel-binding")
        self._bound = binding.data if binding is not None else b""
        key, self._known = self._directory.scram_key(self._login, self.digest)
        self._known = self._known and acts_for in (None, "", name)
        self._key = key
        self._nonce = nonce + self._directory.nonce()
        reply = f"r={self._nonce},s={base64.b64encode(key.salt).decode()},i={key.iterations}"
        self._first = f"{text[len(self._header) :]},{reply},".encode()
        return Challenge(reply.encode())

    def _refuse(self, why: bytes) -> Outcome:
        """Say why (RFC 5802 7); the refusal follows when the client has read it."""
        self._proven = ProvenLogin(self._login, False)
        return Challenge(why)

    def _end(self, text: str, key: ScramKey) -> Outcome:
        match = _CLIENT_FINAL.fullmatch(text)
        if match is None:
            raise Syntax("not a SCRAM message")
        message = self._first + match[1].encode()
        right_binding = decode_base64(match[2].encode()) == self._header.encode() + self._bound
        holds = key.proves(message, decode_base64(match[4].encode()))
        if not (holds and self._known and right_binding and match[3] == self._nonce):
            return ProvenLogin(self._login, False)
        self._proven = ProvenLogin(self._login, True)
        return Challenge(b"v=" + base64.b64encode(key.signature(message)))


class ScramSha1Exchange(ScramExchange):
    """With SHA-1, for those that have nothing newer."""

    digest = "sha1"


class ScramPlusExchange(ScramExchange):
    """Bound to the TLS connection."""

    plus = True


class ScramSha1PlusExchange(ScramPlusExchange):
    """Bound, with SHA-1."""

    digest = "sha1"


def _text(message: bytes) -> str:
    try:
        return message.decode("utf-8")
    except UnicodeDecodeError as error:
        raise Syntax("not UTF-8") from error


EXCHANGES: dict[str, Callable[[Directory], Exchange]] = {
    "SCRAM-SHA-256-PLUS": ScramPlusExchange,
    "SCRAM-SHA-1-PLUS": ScramSha1PlusExchange,
    "SCRAM-SHA-256": ScramExchange,
    "SCRAM-SHA-1": ScramSha1Exchange,
    "OAUTHBEARER": TokenExchange,
    "XOAUTH2": XOAuth2Exchange,
    "CRAM-MD5": CramMd5Exchange,
    "PLAIN": PlainExchange,
    "LOGIN": LoginExchange,
}
