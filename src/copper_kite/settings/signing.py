"""`[[signing]]`: the keys that mail is signed with (DKIM, RFC 6376)."""

from __future__ import annotations

import re
from collections.abc import Container
from typing import Literal

from pydantic import Field, field_validator

from copper_kite.settings.table import Table
from copper_kite.settings.value_types import Domain, Duration

__all__ = ["Signing", "signing_domain"]

_LABELS = r"^[A-Za-z0-9]([A-Za-z0-9-]{0,61}[A-Za-z0-9])?(\.[A-Za-z0-9]([A-Za-z0-9-]{0,61}[A-Za-z0-9])?)*$"
_FIELD_NAME = re.compile(r"[!-9;-~]+")


class Signing(Table):
    """`[[signing]]`: a key that mail from a domain is signed with (DKIM). A domain may have several: each signs."""

    domain: Domain = Field(description="Signs what is from it, and from its subdomains that have no key of their own.")
    selector: str = Field(
        pattern=_LABELS, max_length=63, description="The key's name: it is published at `SELECTOR._domainkey.DOMAIN`."
    )
    key: str = Field(description="PEM file of the private key, RSA or Ed25519; relative to this file.")
    headers: list[str] = Field(
        default=[],
        description="Header fields that nobody may change or add after us; From must be one. Empty: those that readers "
        "are shown and those that decide how the body is read.",
    )
    expires: Duration = Field(
        default=0.0, ge=0, description="How long a signature holds; 0: for ever. At least the lifetime of a message."
    )
    use: Literal["sign", "next", "past"] = Field(
        default="sign",
        description='`"sign"`; `"next"`: not yet, its record is still to be published; `"past"`: no longer, its record '
        "must stay for mail that is still on its way. `kite signing rotate` changes it.",
    )
    since: str = Field(
        default="", pattern=r"^(\d{4}-\d{2}-\d{2})?$", description="The day from which on it is used like that."
    )

    @field_validator("headers")
    @classmethod
    def _fields(cls, value: list[str]) -> list[str]:
        for name in value:
            if not _FIELD_NAME.fullmatch(name):
                raise ValueError(f"{name!r} is not the name of a header field")
        if value and "from" not in [name.lower() for name in value]:
            raise ValueError("From must be signed (RFC 6376 5.4)")
        return value

    @property
    def record_name(self) -> str:
        """The name in DNS at which its key is published."""
        return f"{self.selector}._domainkey.{self.domain}"


def signing_domain(domain: str, known: Container[str]) -> str:
    """The domain whose keys sign for `domain`: itself, or the nearest one above it, among those `known`; else empty."""
    while domain and domain not in known:
        domain = domain.partition(".")[2]
    return domain
