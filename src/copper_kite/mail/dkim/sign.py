"""Sign a message on its way out (RFC 6376 5)."""

from __future__ import annotations

import hashlib
from base64 import b64encode
from collections.abc import Callable, Iterable, Sequence
from typing import TYPE_CHECKING, NamedTuple

from copper_kite.mail.dkim.canonical import canonical_field, field_name
from copper_kite.mail.dkim.keys import SigningKey

if TYPE_CHECKING:
    from cryptography.hazmat.primitives.asymmetric.rsa import RSAPrivateKey

__all__ = ["SIGNED_FIELDS", "Signer", "Unsigned"]

# RFC 6376 5.4.1, and what decides how a body is read. Each is signed once more than it is there, so that nobody can add
# a second one that readers would be shown (RFC 6376 8.15).
SIGNED_FIELDS = (
    "From", "To", "Cc", "Subject", "Date", "Message-ID", "Reply-To",
    "MIME-Version", "Content-Type", "Content-Transfer-Encoding",
)  # fmt: skip
# Signed where they are there; a mailing list may add its own.
SIGNED_IF_THERE = ("Sender", "In-Reply-To", "References", "List-Id", "List-Unsubscribe", "List-Unsubscribe-Post")
_LINE = 72  # octets of base64 in a line of the field


class _Form(NamedTuple):
    """The field around its values, for headers that have the same fields: as it is written, and as it is hashed."""

    written: str
    hashed: str


class Unsigned(NamedTuple):
    """A signature that is still to be made: the field up to its value, the octets that are signed, and by what."""

    start: str
    signed: bytes
    octets: int  # of the signature
    sign: Callable[[bytes], bytes]

    @property
    def size(self) -> int:
        """The octets of the field."""
        encoded = 4 * ((self.octets + 2) // 3)
        return len(self.start.encode()) + encoded + (encoded - 1) // _LINE * len(_FOLD) + 2

    def field(self) -> bytes:
        """The field, with its CRLF."""
        encoded = b64encode(self.sign(self.signed)).decode()
        lines = [encoded[place : place + _LINE] for place in range(0, len(encoded), _LINE)]
        return f"{self.start}{_FOLD.join(lines)}\r\n".encode()


class Signer:
    """Signs for a domain with one key. `fields` are the names of the header fields that nobody may change or add; From
    must be one of them. `expires` is how many seconds a signature holds, 0 for ever."""

    def __init__(
        self,
        domain: str,
        selector: str,
        key: SigningKey,
        fields: Sequence[str] = SIGNED_FIELDS,
        expires: float = 0.0,
    ) -> None:
        self.domain = domain
        self.selector = selector
        self.key = key
        self._expires = expires
        oversigned = {name.lower().encode(): 1 for name in fields}
        self._names = {name.lower().encode(): name for name in (*SIGNED_IF_THERE, *fields)}
        self._order = [(name, oversigned.get(name, 0)) for name in self._names]
        self._forms: dict[tuple[int, ...], _Form] = {}
        self._sign = _signing_function(key)

    def sign(self, fields: Iterable[bytes], body_digest: bytes, now: float) -> bytes:
        """The DKIM-Signature field, with its CRLF, for the fields of a header and the digest of the body after it."""
        return self.prepare(fields, body_digest, now).field()

    def prepare(self, fields: Iterable[bytes], body_digest: bytes, now: float) -> Unsigned:
        """The same before the key is used, which takes longest."""
        there: dict[bytes, list[bytes]] = {}
        for field in fields:
            name = field_name(field)
            if name in self._names:
                there.setdefault(name, []).append(field)
        covered = [
            canonical_field(field, relaxed=True) for name, _ in self._order for field in reversed(there.get(name, ()))
        ]
        form = self._form(tuple([len(there.get(name, ())) + once_more for name, once_more in self._order]))
        times = f"{int(now)}; x={int(now + self._expires)}" if self._expires else f"{int(now)}"
        digest = body_digest.decode()
        covered.append((form.hashed % (times, digest)).encode())
        return Unsigned(form.written % (times, digest), b"\r\n".join(covered), self.key.signature_octets, self._sign)

    def _form(self, counts: tuple[int, ...]) -> _Form:
        form = self._forms.get(counts)
        if form is None:
            names = [
                self._names[name] for (name, _), count in zip(self._order, counts, strict=True) for _ in range(count)
            ]
            written = (
                f"DKIM-Signature: v=1; a={self.key.algorithm}; c=relaxed/relaxed;\r\n"
                f"\td={self.domain}; s={self.selector}; t=%s;\r\n"
                f"\th={_folded_names(names)};\r\n\tbh=%s;\r\n\tb="
            )
            form = _Form(written, canonical_field(written.encode(), relaxed=True).decode())
            if len(self._forms) < MAX_FORMS:
                self._forms[counts] = form
        return form


_FOLD = "\r\n\t "
MAX_FORMS = 1000  # kept


def _signing_function(key: SigningKey) -> Callable[[bytes], bytes]:
    """The function that signs octets (RFC 6376 3.7, RFC 8463 3)."""
    if key.kind == "ed25519":
        of_digest: Callable[[bytes], bytes] = key.private.sign  # type: ignore[assignment]
        return lambda signed: of_digest(hashlib.sha256(signed).digest())
    from cryptography.hazmat.primitives.asymmetric.padding import PKCS1v15
    from cryptography.hazmat.primitives.hashes import SHA256

    private: RSAPrivateKey = key.private  # type: ignore[assignment]
    padding, algorithm = PKCS1v15(), SHA256()
    return lambda signed: private.sign(signed, padding, algorithm)


def _folded_names(names: Iterable[str]) -> str:
    lines = [""]
    for name in names:
        if len(lines[-1]) + len(name) >= _LINE:
            lines.append("")
        lines[-1] += f":{name}"
    return _FOLD.join(line if number else line[1:] for number, line in enumerate(lines))
