"""SASL mechanisms as values and functions (RFC 4954, RFC 4616). Secrets never show in a repr."""

from __future__ import annotations

import base64
import binascii
import hashlib
import hmac
import re
import stringprep
import unicodedata
from dataclasses import dataclass

from copper_kite.smtp.grammar import Syntax

__all__ = [
    "SCRAM_ITERATIONS",
    "SCRAM_LEAST",
    "Binding",
    "PlainLogin",
    "ProvenLogin",
    "ScramKey",
    "Secret",
    "decode_base64",
    "decode_plain",
    "prepare",
    "scram_proof",
]

SCRAM_LEAST = 4096  # iterations, RFC 7677 4
SCRAM_ITERATIONS = 15_000
_SCRAM_TEXT = re.compile(r"SCRAM-SHA-256\$([0-9]{1,8}):([A-Za-z0-9+/=]+)\$([A-Za-z0-9+/=]+):([A-Za-z0-9+/=]+)")


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


@dataclass(frozen=True, slots=True)
class ProvenLogin:
    """What is left of a login that the mechanism itself has checked: whose it is, and whether it holds."""

    login: str
    holds: bool


@dataclass(frozen=True, slots=True)
class Binding:
    """What ties a login to one TLS connection (RFC 5929, RFC 9266): the kind and its octets."""

    kind: str
    data: bytes


@dataclass(frozen=True, slots=True)
class ScramKey:
    """What is kept of a password: enough to check it, not to find it out (RFC 5802 3, RFC 7677)."""

    iterations: int
    salt: bytes
    stored_key: bytes
    server_key: bytes
    digest: str = "sha256"

    @classmethod
    def make(
        cls, password: Secret, salt: bytes, iterations: int = SCRAM_ITERATIONS, digest: str = "sha256"
    ) -> ScramKey:
        """From a password, with a salt of at least 16 random octets."""
        salted = hashlib.pbkdf2_hmac(digest, _prepared(password), salt, iterations)
        client_key = hmac.digest(salted, b"Client Key", digest)
        stored, server = hashlib.new(digest, client_key).digest(), hmac.digest(salted, b"Server Key", digest)
        return cls(iterations, salt, stored, server, digest)

    def proves(self, message: bytes, proof: bytes) -> bool:
        """Whether `proof` comes from who knows the password, over this AuthMessage (RFC 5802 3)."""
        signature = hmac.digest(self.stored_key, message, self.digest)
        if len(signature) != len(proof):
            return False
        client_key = bytes(a ^ b for a, b in zip(signature, proof, strict=True))
        return hmac.compare_digest(hashlib.new(self.digest, client_key).digest(), self.stored_key)

    def signature(self, message: bytes) -> bytes:
        """What proves to the client that the server knows the key (RFC 5802 3)."""
        return hmac.digest(self.server_key, message, self.digest)

    @classmethod
    def parse(cls, text: str) -> ScramKey:
        """From `SCRAM-SHA-256$iterations:salt$StoredKey:ServerKey` (RFC 5803 2). Raises Syntax."""
        match = _SCRAM_TEXT.fullmatch(text)
        if match is None:
            raise Syntax("not a SCRAM-SHA-256 key")
        count, *parts = match.groups()
        salt, stored, server = (decode_base64(part.encode()) for part in parts)
        if int(count) < SCRAM_LEAST or len(stored) != 32 or len(server) != 32:
            raise Syntax("not a SCRAM-SHA-256 key")
        return cls(int(count), salt, stored, server)

    def __str__(self) -> str:
        salt, stored, server = (base64.b64encode(p).decode() for p in (self.salt, self.stored_key, self.server_key))
        return f"SCRAM-SHA-256${self.iterations}:{salt}${stored}:{server}"

    def fits(self, password: Secret) -> bool:
        """Whether it was made from this password; takes as long for a wrong one."""
        found = ScramKey.make(password, self.salt, self.iterations, self.digest)
        return hmac.compare_digest(found.stored_key, self.stored_key)


def scram_proof(password: Secret, salt: bytes, iterations: int, digest: str, message: bytes) -> tuple[bytes, bytes]:
    """The client's proof over this AuthMessage, and the server's signature that must come back (RFC 5802 3)."""
    salted = hashlib.pbkdf2_hmac(digest, _prepared(password), salt, iterations)
    client_key = hmac.digest(salted, b"Client Key", digest)
    mask = hmac.digest(hashlib.new(digest, client_key).digest(), message, digest)
    proof = bytes(a ^ b for a, b in zip(client_key, mask, strict=True))
    return proof, hmac.digest(hmac.digest(salted, b"Server Key", digest), message, digest)


def _prepared(password: Secret) -> bytes:
    """The octets of a password, as both sides of SCRAM have them (RFC 5802 2.2)."""
    return prepare(password.reveal()).encode("utf-8")


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
