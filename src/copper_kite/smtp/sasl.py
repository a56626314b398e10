"""SASL mechanisms as values and functions (RFC 4954, RFC 4616). Secrets never show in a repr."""

from __future__ import annotations

import base64
import binascii
from dataclasses import dataclass

from copper_kite.smtp.grammar import Syntax

__all__ = ["PlainLogin", "Secret", "decode_base64", "decode_plain", "encode_plain"]


class Secret:
    """A secret string that does not show itself; `reveal` is the one way to it."""

    __slots__ = ("_value",)

    def __init__(self, value: str) -> None:
        self._value = value

    def reveal(self) -> str:
        """The secret itself, for the wire and for comparing."""
        return self._value

    def __repr__(self) -> str:
        return "Secret('***')"

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Secret) and other._value == self._value

    def __hash__(self) -> int:
        return hash(self._value)


@dataclass(frozen=True, slots=True)
class PlainLogin:
    """What a client sends with PLAIN (RFC 4616 2); `acts_for` is the authorization identity, mostly empty."""

    acts_for: str
    login: str
    password: Secret


def encode_plain(login: str, password: Secret) -> bytes:
    """The base64 text of a PLAIN login, without an authorization identity."""
    return base64.b64encode(f"\0{login}\0{password.reveal()}".encode())


def decode_base64(text: bytes) -> bytes:
    """Strict base64 (RFC 4648 3): nothing skipped, nothing guessed. Raises Syntax."""
    try:
        return base64.b64decode(text, validate=True)
    except binascii.Error as error:
        raise Syntax("not base64") from error


def decode_plain(message: bytes) -> PlainLogin:
    """A decoded PLAIN message: exactly two NULs, UTF-8, login and password not empty. Raises Syntax."""
    parts = message.split(b"\0")
    if len(parts) != 3 or not parts[1] or not parts[2]:
        raise Syntax("not a PLAIN message")
    try:
        acts_for, login, password = (part.decode("utf-8") for part in parts)
    except UnicodeDecodeError as error:
        raise Syntax("not UTF-8") from error
    return PlainLogin(acts_for, login, Secret(password))
