"""The mechanisms that send the password or a digest of it: PLAIN, LOGIN, CRAM-MD5."""

from __future__ import annotations

import hmac

from copper_kite.smtp.grammar import Syntax
from copper_kite.smtp.sasl.base import Challenge, Directory, Exchange, LoginCredentials, Mechanism, Outcome
from copper_kite.smtp.sasl.values import PlainLogin, ProvenLogin, Secret, decode_text

__all__ = ["CramMd5", "CramMd5Exchange", "Login", "LoginExchange", "Plain", "PlainExchange"]


class Plain(Mechanism):
    """RFC 4616."""

    def first(self) -> bytes | None:
        return f"\0{self._credentials.login}\0{self._password}".encode()

    def next(self, challenge: bytes) -> bytes:
        if challenge:
            return super().next(challenge)
        return self.first() or b""  # where the initial response was too long to go with AUTH


class PlainExchange(Exchange):
    """RFC 4616."""

    def step(self, message: bytes) -> Outcome:
        """Exactly two NULs, UTF-8, login and password not empty."""
        parts = message.split(b"\0")
        if len(parts) != 3 or not parts[1] or not parts[2]:
            raise Syntax("not a PLAIN message")
        acts_for, login, password = map(decode_text, parts)
        return PlainLogin(acts_for, login, Secret(password))


class Login(Mechanism):
    """No RFC; framed by RFC 4954. The prompts count by their order, not by their words."""

    def __init__(self, credentials: LoginCredentials) -> None:
        super().__init__(credentials)
        self._answers = [credentials.login, self._password]

    def first(self) -> bytes | None:
        return None

    def next(self, challenge: bytes) -> bytes:
        if not self._answers:
            return super().next(challenge)
        return self._answers.pop(0).encode()


class LoginExchange(Exchange):
    """No RFC: two prompts."""

    opening = b"Username:"

    def __init__(self, directory: Directory) -> None:
        super().__init__(directory)
        self._login: str | None = None

    def step(self, message: bytes) -> Outcome:
        text = decode_text(message)
        if self._login is None:
            self._login = text
            return Challenge(b"Password:")
        if not self._login or not text or "\0" in self._login + text:
            raise Syntax("empty")
        return PlainLogin("", self._login, Secret(text))


class CramMd5(Mechanism):
    """RFC 2195: the password itself does not travel, but an eavesdropper can try passwords out."""

    def first(self) -> bytes | None:
        return None

    def next(self, challenge: bytes) -> bytes:
        digest = hmac.new(self._password.encode(), challenge, "md5").hexdigest()
        return f"{self._credentials.login} {digest}".encode()


class CramMd5Exchange(Exchange):
    """RFC 2195."""

    def __init__(self, directory: Directory) -> None:
        super().__init__(directory)
        self.opening = f"<{directory.nonce()}@localhost>".encode()

    def step(self, message: bytes) -> Outcome:
        login, _, digest = decode_text(message).rpartition(" ")
        if not login:
            raise Syntax("not a CRAM-MD5 message")
        password = self._directory.password(login)
        right = hmac.new((password or Secret("")).reveal().encode(), self.opening, "md5").hexdigest()
        return ProvenLogin(login, password is not None and hmac.compare_digest(right, digest))
