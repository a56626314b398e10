"""The demands of a next hop's policy on TLS, in addition to those of its connector."""

from __future__ import annotations

from typing import Any, NamedTuple

__all__ = ["DANE", "Demand", "Tlsa"]

DANE = "dane"  # the trust that goes by TLSA records


class Tlsa(NamedTuple):
    """A TLSA record (RFC 6698 2.1): what of which certificate is given, and how."""

    usage: int
    selector: int
    matching: int
    data: bytes

    @classmethod
    def of(cls, record: Any) -> Tlsa:
        """The record from one of dnspython's."""
        return cls(record.usage, record.selector, record.mtype, record.cert)

    @property
    def usable(self) -> bool:
        """Whether it counts for SMTP (RFC 7672 3.1, RFC 7671 5): usages 2 and 3, known selectors and matchings."""
        return self.usage in (2, 3) and self.selector in (0, 1) and self.matching in (0, 1, 2)

    def __str__(self) -> str:
        """The record as DNS writes it, `3 1 1 0102…`."""
        return f"{self.usage} {self.selector} {self.matching} {self.data.hex()[:16]}…"


class Demand(NamedTuple):
    """By which policy (`dane`, `sts`), and for DANE by which records and for which names, the host's first.

    `testing`: what fails is only told, and the message goes as it would without; `failed`: so it does.
    """

    policy: str
    tlsa: tuple[Tlsa, ...] = ()
    names: tuple[str, ...] = ()
    testing: bool = False
    failed: bool = False

    @property
    def words(self) -> str:
        """The demand in words."""
        if self.policy == "dane":
            return f"DANE, TLSA {', '.join(map(str, self.tlsa))}" if self.tlsa else "DANE, without a usable TLSA record"
        return f"MTA-STS, {'testing' if self.testing else 'enforce'}" + ": it fails" * self.failed

    @property
    def name(self) -> str:
        """The policy and its result, as records and commands show them."""
        return self.policy + ", testing" * self.testing + ": failed" * self.failed
