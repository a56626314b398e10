"""The values of SASL: secrets, logins, bindings to TLS; and base64 and SASLprep (RFC 4954, RFC 4013)."""

from __future__ import annotations

import base64
import binascii
import stringprep
import unicodedata
from dataclasses import dataclass

from copper_kite.smtp.grammar import Syntax

__all__ = [
    "Binding",
    "PlainLogin",
    "ProvenLogin",
    "Secret",
    "decode_base64",
    "decode_text",
    "escape_name",
    "prepare",
    "unescape_name",
]


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
    """The message of PLAIN (RFC 4616 2); `acts_for` is the authorization identity, mostly empty."""

    acts_for: str
    login: str
    password: Secret


@dataclass(frozen=True, slots=True)
class ProvenLogin:
    """The result of a login that the mechanism itself has checked: its name, and whether it is valid."""

    login: str
    holds: bool


@dataclass(frozen=True, slots=True)
class Binding:
    """A channel binding, which ties a login to one TLS connection (RFC 5929, RFC 9266): its type and its octets."""

    kind: str
    data: bytes


def prepare(text: str) -> str:
    """SASLprep, so that the same characters typed elsewhere are the same octets (RFC 4013 2).

    Text that it prohibits stays as it is: whoever knows it has typed it, and a server that refuses it will say so.
    """
    if text.isascii() and text.isprintable():
        return text
    mapped = "".join(
        " " if stringprep.in_table_c12(char) else "" if stringprep.in_table_b1(char) else char for char in text
    )
    normal = unicodedata.normalize("NFKC", mapped)
    prohibited = any(in_table(char) for char in normal for in_table in _PROHIBITED)
    return text if prohibited or not _is_one_way(normal) else normal


_PROHIBITED = (
    stringprep.in_table_c12, stringprep.in_table_c21_c22, stringprep.in_table_c3, stringprep.in_table_c4,
    stringprep.in_table_c5, stringprep.in_table_c6, stringprep.in_table_c7, stringprep.in_table_c8,
    stringprep.in_table_c9, stringprep.in_table_a1,
)  # fmt: skip


def _is_one_way(text: str) -> bool:
    """Whether text written from right to left has nothing of the other way in it (RFC 3454 6)."""
    if not any(stringprep.in_table_d1(char) for char in text):
        return True
    mixed = any(stringprep.in_table_d2(char) for char in text)
    return not mixed and stringprep.in_table_d1(text[0]) and stringprep.in_table_d1(text[-1])


def decode_base64(text: bytes) -> bytes:
    """Strict base64 (RFC 4648 3): nothing skipped, nothing guessed, one way to write it. Raises Syntax."""
    try:
        octets = base64.b64decode(text, validate=True)
    except binascii.Error as error:
        raise Syntax("not base64") from error
    if len(text) != (len(octets) + 2) // 3 * 4:
        raise Syntax("more padding than base64 has")
    return octets


def decode_text(message: bytes) -> str:
    """A message in UTF-8. Raises Syntax."""
    try:
        return message.decode("utf-8")
    except UnicodeDecodeError as error:
        raise Syntax("not UTF-8") from error


def escape_name(login: str) -> str:
    """A login as a saslname (RFC 5802 5.1)."""
    return login.replace("=", "=3D").replace(",", "=2C")


def unescape_name(name: str) -> str:
    """The login that a saslname stands for."""
    return name.replace("=2C", ",").replace("=3D", "=")
