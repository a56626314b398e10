"""The values of `kite.toml` that are more than text or numbers: how each is checked, and what it becomes."""

from __future__ import annotations

import ipaddress
from typing import Annotated

from pydantic import AfterValidator, BeforeValidator, Field

from copper_kite.settings.find import plain_pattern
from copper_kite.settings.units import (
    Allowance,
    Endpoint,
    Pace,
    parse_allowance,
    parse_duration,
    parse_endpoint,
    parse_pace,
    parse_size,
)
from copper_kite.smtp import MECHANISMS, is_domain, is_mailbox

__all__ = [
    "AccountName",
    "AllowanceOf",
    "Allowed",
    "Bind",
    "Dns",
    "Domain",
    "Duration",
    "Name",
    "PaceOf",
    "Pattern",
    "Sasl",
    "Size",
    "check_address",
    "check_address_or_none",
    "check_domain",
    "in_a_list",
]

MAPPED_BITS = 96  # before the IPv4 address in one in IPv6 form, RFC 4291 2.5.5.2
Network = ipaddress.IPv4Network | ipaddress.IPv6Network


def _parse_network(value: object) -> Network:
    """An IPv4 network in IPv6 form is the IPv4 network: so its clients are known, too (see `networks.is_within`)."""
    try:
        network = ipaddress.ip_network(str(value))
        mapped = getattr(network.network_address, "ipv4_mapped", None)
        if mapped is not None and network.prefixlen >= MAPPED_BITS:
            return ipaddress.ip_network(f"{mapped}/{network.prefixlen - MAPPED_BITS}")
        return network
    except ValueError as error:
        try:
            meant = ipaddress.ip_network(str(value), strict=False)
        except ValueError:
            raise ValueError(f"{value!r} is not a network; write it as 127.0.0.0/8 or ::1") from error
        raise ValueError(f"{value!r} has host bits set; the network is {meant}") from error


def check_domain(value: str) -> str:
    if not is_domain(value) or "." not in value:
        raise ValueError(f"{value!r} is not a fully qualified domain name, as in quay1.ternferries.example")
    return value.lower()


def in_a_list(value: object) -> object:
    """Take a single value as a list of one."""
    return [value] if isinstance(value, str) else value


def check_address(value: str) -> str:
    if not is_mailbox(value):
        raise ValueError(f"{value!r} is not an address with a domain")
    return value


def check_address_or_none(value: str) -> str:
    return check_address(value) if value else value


def _check_pattern(value: str) -> str:
    """A recipient pattern: `*`, a domain, `*.domain` or one address; `*@` before the first three is dropped."""
    meant = plain_pattern(value)
    if meant == "*" or is_domain(meant.removeprefix("*.")):
        return meant
    if meant == value and is_mailbox(value):
        return value
    raise ValueError(f"{value!r} is no pattern; write *, port.example, *.port.example or ana@port.example")


def _check_dns(value: object) -> str:
    text = value.strip() if isinstance(value, str) else ""
    if text == "system" or (text.startswith("zone:") and text != "zone:"):
        return text
    try:
        if parse_endpoint(
            text if ":" not in text or "." in text or "[" in text else f"[{text}]", default_port=53
        ).is_address:
            return text
    except ValueError:
        pass
    raise ValueError(f"{value!r} says no way to look names up; write system, 192.0.2.53, 127.0.0.1:5353 or zone:FILE")


def _check_mechanism(value: object) -> str:
    name = value.upper() if isinstance(value, str) else ""
    if name not in MECHANISMS:
        raise ValueError(f"{value!r} is no kind of login here; they are {', '.join(MECHANISMS)}")
    return name


def _check_bind(value: object) -> Endpoint:
    endpoint = parse_endpoint(value)
    if not endpoint.path and not endpoint.is_address:
        raise ValueError(f"{value!r}: listen on an address, as in 127.0.0.1:25")
    return endpoint


Duration = Annotated[float, BeforeValidator(parse_duration)]
Size = Annotated[int, BeforeValidator(parse_size)]
Domain = Annotated[str, AfterValidator(check_domain)]
Allowed = Annotated[Network, BeforeValidator(_parse_network)]
Pattern = Annotated[str, AfterValidator(_check_pattern)]
Bind = Annotated[Endpoint, BeforeValidator(_check_bind)]
PaceOf = Annotated[Pace, BeforeValidator(parse_pace)]
AllowanceOf = Annotated[Allowance, BeforeValidator(parse_allowance)]
Sasl = Annotated[str, BeforeValidator(_check_mechanism)]
Dns = Annotated[str, BeforeValidator(_check_dns)]
Name = Annotated[str, Field(pattern=r"^[A-Za-z0-9][A-Za-z0-9_.-]*$")]
AccountName = Annotated[str, Field(pattern=r"^[A-Za-z0-9][A-Za-z0-9_.+@-]*$")]  # many programs log in as an address
