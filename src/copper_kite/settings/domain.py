"""`[domain]`: what `kite domain` looks up beside the records of the sending domains."""

from __future__ import annotations

from pydantic import Field

from copper_kite.settings.table import Table
from copper_kite.settings.value_types import Domain

__all__ = ["DomainSettings"]


class DomainSettings(Table):
    """`[domain]`: what `kite domain` looks up beside the records of the sending domains."""

    lists: list[Domain] = Field(
        default=[], description="Block lists that our addresses and names are looked up in (RFC 5782), by their zones."
    )
    selectors: list[str] = Field(
        default=[], description="Selectors of DKIM keys that are not ours, as of a smart host that signs for us."
    )
