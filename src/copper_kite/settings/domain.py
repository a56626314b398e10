"""`[domain]`: what `kite domain` looks up beside the records of the sending domains."""

from __future__ import annotations

from pydantic import Field, field_validator

from copper_kite.settings.table import Table
from copper_kite.settings.value_types import Domain, check_address_or_none

__all__ = ["DomainSettings", "TlsReports"]


class DomainSettings(Table):
    """`[domain]`: what `kite domain` looks up beside the records of the sending domains."""

    lists: list[Domain] = Field(
        default=[], description="Block lists that our addresses and names are looked up in (RFC 5782), by their zones."
    )
    selectors: list[str] = Field(
        default=[], description="Selectors of DKIM keys that are not ours, as of a smart host that signs for us."
    )


class TlsReports(Table):
    """`[tls_reports]`: the reports on TLS that other domains ask for (RFC 8460)."""

    send: bool = Field(
        default=False,
        description="Whether domains that ask for it are told each day how TLS with their mail exchangers went.",
    )
    organization: str = Field(default="", description="Who reports; by default the domain of `[identity]`.")
    contact: str = Field(default="", description="Whom they may ask; by default our postmaster.")

    _contact = field_validator("contact")(check_address_or_none)
