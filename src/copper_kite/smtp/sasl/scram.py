"""SCRAM, in which both sides prove that they know the password; with PLUS, over this very TLS (RFC 5802, RFC 7677)."""

from __future__ import annotations

import base64
import hmac
import re

from copper_kite.errors import ProtocolViolation
from copper_kite.smtp.grammar import Syntax
from copper_kite.smtp.sasl.base import Challenge, Directory, Exchange, LoginCredentials, Mechanism, Outcome
from copper_kite.smtp.sasl.scram_keys import SCRAM_LEAST, ScramKey, scram_proof
from copper_kite.smtp.sasl.values import (
    ProvenLogin,
    Secret,
    decode_base64,
    decode_text,
    escape_name,
    prepare,
    unescape_name,
)

__all__ = ["Scram", "ScramExchange", "ScramPlusExchange", "ScramSha1Exchange", "ScramSha1PlusExchange"]

_SERVER_FIRST = re.compile(r"r=([^,]+),s=([A-Za-z0-9+/=]+),i=([1-9][0-9]{0,9})(?:,.*)?")
_CLIENT_FIRST = re.compile(r"(([ny]|p=([A-Za-z0-9.-]+)),(?:a=([^,]*))?,)n=([^,]+),r=([!-+\--~]+)(?:,.*)?")
_CLIENT_FINAL = re.compile(r"(c=([A-Za-z0-9+/=]+),r=([!-+\--~]+)(?:,[a-ln-z]=[^,]*)*),p=([A-Za-z0-9+/=]+)")


class Scram(Mechanism):
    """RFC 5802, RFC 7677: both sides prove that they know the password; with a binding, over this very TLS."""

    slow = True

    def __init__(self, credentials: LoginCredentials, digest: str, header: str, bound: bytes) -> None:
        super().__init__(credentials)
        self.proven = False
        self._digest = digest
        self._header = header
        self._bound = bound
        self._bare = f"n={escape_name(prepare(credentials.login))},r={credentials.nonce}"
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
        if match is None or not match[1].startswith(self._credentials.nonce) or match[1] == self._credentials.nonce:
            raise ProtocolViolation("not a SCRAM challenge for us", challenge)
        iterations = int(match[3])
        if not SCRAM_LEAST <= iterations <= self._credentials.max_iterations:
            raise ProtocolViolation(f"SCRAM with {iterations} iterations", challenge)
        without = f"c={_base64(self._header.encode() + self._bound)},r={match[1]}"
        message = f"{self._bare},{text},{without}".encode()
        password = self._credentials.password or Secret("")
        proof, self._expected = scram_proof(password, _decoded(match[2]), iterations, self._digest, message)
        return f"{without},p={_base64(proof)}".encode()


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
                raise Syntax("something after the end of a login")
            return self._proven
        return self._begin(decode_text(message)) if self._key is None else self._end(decode_text(message), self._key)

    def _begin(self, text: str) -> Outcome:
        match = _CLIENT_FIRST.fullmatch(text)
        if match is None or (match[3] is not None) is not self.plus:
            raise Syntax("not a SCRAM message")
        self._header, flag, kind, acts_for, name, nonce = match.groups()
        self._login = unescape_name(name)
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


def _base64(octets: bytes) -> str:
    return base64.b64encode(octets).decode()


def _decoded(text: str) -> bytes:
    try:
        return decode_base64(text.encode())
    except Syntax as error:
        raise ProtocolViolation("not base64 in a SCRAM message", text.encode()) from error
