"""Keys to sign with, and keys as DNS publishes them (RFC 6376 3.6.1, RFC 8463 4)."""

from __future__ import annotations

import binascii
import os
import re
from base64 import b64decode, b64encode
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from copper_kite.mail.dkim.tags import BadTags, parse_tags

if TYPE_CHECKING:
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey, Ed25519PublicKey
    from cryptography.hazmat.primitives.asymmetric.rsa import RSAPrivateKey, RSAPublicKey

__all__ = [
    "GOOD_RSA_BITS",
    "SIGNING_KINDS",
    "KeyUnusable",
    "PublishedKey",
    "SigningKey",
    "key_record",
    "make_signing_key",
    "parse_key_record",
    "read_signing_key",
]

SIGNING_KINDS = ("rsa", "ed25519")
GOOD_RSA_BITS = 2048  # RFC 8301 3.2: signers should use no shorter key; new ones have it
LEAST_RSA_BITS = 1024  # RFC 8301 3.2: verifiers take no shorter key
_BLANKS = re.compile(r"\s+")


class KeyUnusable(Exception):
    """A key that cannot be used; the message says why, without the file's name."""


class PublishedKey(NamedTuple):
    """The key record of a selector. `octets` is the public key as it stands there, empty when it is revoked."""

    kind: str
    octets: bytes
    testing: bool = False
    strict_identity: bool = False
    services: tuple[str, ...] = ("*",)
    hashes: tuple[str, ...] = ()

    @property
    def revoked(self) -> bool:
        """Whether the domain withdrew it (RFC 6376 3.6.1)."""
        return not self.octets

    def public(self) -> RSAPublicKey | Ed25519PublicKey:
        """The key itself. Raises KeyUnusable."""
        from cryptography.exceptions import UnsupportedAlgorithm
        from cryptography.hazmat.primitives.asymmetric import ed25519, rsa
        from cryptography.hazmat.primitives.serialization import load_der_public_key

        try:
            if self.kind == "ed25519":
                return ed25519.Ed25519PublicKey.from_public_bytes(self.octets)
            key = load_der_public_key(self.octets)
        except (ValueError, UnsupportedAlgorithm) as error:
            raise KeyUnusable(f"the published key is not one of kind {self.kind}") from error
        if not isinstance(key, rsa.RSAPublicKey):
            raise KeyUnusable("the published key is not an RSA key")
        return key

    @property
    def bits(self) -> int:
        """The length of the key. Raises KeyUnusable."""
        return 256 if self.kind == "ed25519" else self.public().key_size  # type: ignore[union-attr]


def parse_key_record(text: str) -> PublishedKey:
    """The key record with this text. Raises KeyUnusable."""
    try:
        tags = parse_tags(text)
    except BadTags as error:
        raise KeyUnusable(f"the record cannot be read: {error}") from error
    if tags.get("v", "DKIM1") != "DKIM1" or ("v" in tags and next(iter(tags)) != "v"):
        raise KeyUnusable("the record does not begin with v=DKIM1")
    if "p" not in tags:
        raise KeyUnusable("the record has no p=, and thus no key")
    octets = _octets(tags["p"])
    kind = tags.get("k", "rsa").lower()
    if kind not in SIGNING_KINDS:
        raise KeyUnusable(f"keys of kind {kind!r} are not known")
    flags, services = (tuple(_colons(tags.get(name, ""))) for name in ("t", "s"))
    return PublishedKey(kind, octets, "y" in flags, "s" in flags, services or ("*",), tuple(_colons(tags.get("h", ""))))


def _octets(text: str) -> bytes:
    try:
        return b64decode(_BLANKS.sub("", text), validate=True)
    except (binascii.Error, ValueError) as error:
        raise KeyUnusable("p= is not base64: a part of the key is missing or was changed") from error


def _colons(text: str) -> list[str]:
    return [part.strip().lower() for part in text.split(":") if part.strip()]


@dataclass(frozen=True, slots=True)
class SigningKey:
    """A private key. `algorithm` is how signatures name it (`a=`)."""

    private: RSAPrivateKey | Ed25519PrivateKey
    kind: str

    @property
    def algorithm(self) -> str:
        """The value of `a=`."""
        return f"{self.kind}-sha256"

    @property
    def bits(self) -> int:
        """Its length."""
        return 256 if self.kind == "ed25519" else self.private.key_size  # type: ignore[union-attr]

    @property
    def signature_octets(self) -> int:
        """The length of a signature."""
        return 64 if self.kind == "ed25519" else self.bits // 8

    @property
    def public_octets(self) -> bytes:
        """The public key as its record has it: SubjectPublicKeyInfo for RSA, the bare 32 octets for Ed25519."""
        from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat

        public = self.private.public_key()
        if self.kind == "ed25519":
            return public.public_bytes(Encoding.Raw, PublicFormat.Raw)
        return public.public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)


def make_signing_key(kind: str) -> bytes:
    """A new private key in PEM form (PKCS #8)."""
    from cryptography.hazmat.primitives.asymmetric import ed25519, rsa
    from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat

    made = (
        ed25519.Ed25519PrivateKey.generate()
        if kind == "ed25519"
        else rsa.generate_private_key(public_exponent=65537, key_size=GOOD_RSA_BITS)
    )
    return made.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())


def read_signing_key(file: Path) -> SigningKey:
    """The private key in a PEM file that nobody else may read. Raises KeyUnusable."""
    from cryptography.exceptions import UnsupportedAlgorithm
    from cryptography.hazmat.primitives.asymmetric import ed25519, rsa
    from cryptography.hazmat.primitives.serialization import load_pem_private_key

    try:
        with file.open("rb") as opened:
            if os.fstat(opened.fileno()).st_mode & 0o007:
                raise KeyUnusable(f"any user of this machine can read it (chmod o= {file})")
            key = load_pem_private_key(opened.read(), None)
    except OSError as error:
        raise KeyUnusable((error.strerror or str(error)).lower()) from error
    except (ValueError, TypeError, UnsupportedAlgorithm) as error:
        raise KeyUnusable("it is not a private key in PEM form without a passphrase") from error
    if isinstance(key, ed25519.Ed25519PrivateKey):
        return SigningKey(key, "ed25519")
    if not isinstance(key, rsa.RSAPrivateKey):
        raise KeyUnusable("it is neither an RSA nor an Ed25519 key")
    if key.key_size < LEAST_RSA_BITS:
        raise KeyUnusable(f"it has {key.key_size} bits, and receivers accept none under {LEAST_RSA_BITS}")
    return SigningKey(key, "rsa")


def key_record(key: SigningKey) -> str:
    """The text of the record that publishes the key."""
    return f"v=DKIM1; k={key.kind}; p={b64encode(key.public_octets).decode()}"
