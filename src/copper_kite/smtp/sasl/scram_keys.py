"""The stored keys of a password for SCRAM, and the proof that a client knows it (RFC 5802, RFC 7677)."""

from __future__ import annotations

import base64
import hashlib
import hmac
import re
from dataclasses import dataclass

from copper_kite.smtp.grammar import Syntax
from copper_kite.smtp.sasl.values import Secret, decode_base64, prepare

__all__ = ["SCRAM_ITERATIONS", "SCRAM_LEAST", "ScramKey", "made_up_key", "scram_proof"]

SCRAM_LEAST = 4096  # iterations, RFC 7677 4
SCRAM_ITERATIONS = 15_000
_SCRAM_TEXT = re.compile(r"SCRAM-SHA-256\$([0-9]{1,8}):([A-Za-z0-9+/=]+)\$([A-Za-z0-9+/=]+):([A-Za-z0-9+/=]+)")


@dataclass(frozen=True, slots=True)
class ScramKey:
    """The stored key of a password: enough to check it, not to recover it (RFC 5802 3, RFC 7677)."""

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
        """The signature that proves to the client that the server knows the key (RFC 5802 3)."""
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
        result = ScramKey.make(password, self.salt, self.iterations, self.digest)
        return hmac.compare_digest(result.stored_key, self.stored_key)


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


def made_up_key(login: str, secret: bytes, like: ScramKey | None = None) -> ScramKey:
    """The key of an account that does not exist: always the same, so that clients cannot tell (RFC 5802 5)."""
    digest = like.digest if like is not None else "sha256"
    salt = hmac.digest(secret, login.encode(), "sha256")[: len(like.salt) if like is not None else 16]
    empty = bytes(hashlib.new(digest).digest_size)
    return ScramKey(like.iterations if like is not None else SCRAM_ITERATIONS, salt, empty, empty, digest)
