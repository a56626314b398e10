"""`[[accepted]]`: weaknesses that `kite audit` found, and that are meant."""

from __future__ import annotations

from pydantic import Field

from copper_kite.settings.table import Table

__all__ = ["Accepted"]


class Accepted(Table):
    """`[[accepted]]`: a weakness that is meant; `kite audit accept` writes it."""

    risk: str = Field(description="Its kind, as `kite audit` calls it.")
    of: str = Field(default="", description="Of what: a connector, say. Empty: of all.")
    reason: str = Field(min_length=1, description="Why it is as it should be.")
