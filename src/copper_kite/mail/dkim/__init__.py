"""DKIM signatures (RFC 6376, RFC 8463): made by a `Signer`, checked by `check_signatures`; the keys they need."""

from __future__ import annotations

from typing import TYPE_CHECKING

from copper_kite.lazy import lazy_exports

if TYPE_CHECKING:
    from copper_kite.mail.dkim.canonical import BodyDigest, split_fields
    from copper_kite.mail.dkim.check import Signature, SignatureResult, SignedMessage, check_signature, parse_signatures
    from copper_kite.mail.dkim.keys import (
        GOOD_RSA_BITS,
        SIGNING_KINDS,
        KeyUnusable,
        PublishedKey,
        SigningKey,
        key_record,
        make_signing_key,
        parse_key_record,
        read_signing_key,
    )
    from copper_kite.mail.dkim.sign import SIGNED_FIELDS, Signer, Unsigned
    from copper_kite.mail.dkim.tags import BadTags, parse_tags

__getattr__, __all__ = lazy_exports(
    __name__,
    {
        "canonical": "BodyDigest split_fields",
        "check": "Signature SignatureResult SignedMessage check_signature parse_signatures",
        "keys": "GOOD_RSA_BITS KeyUnusable PublishedKey SIGNING_KINDS SigningKey key_record make_signing_key"
        " parse_key_record read_signing_key",
        "sign": "SIGNED_FIELDS Signer Unsigned",
        "tags": "BadTags parse_tags",
    },
)
