"""The session plan that follows from a connector's settings."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from copper_kite.net import PIN, ZONE, Plan
from copper_kite.settings import Connector, Loaded

__all__ = ["dns_of", "make_plan", "make_plans"]


def make_plan(loaded: Loaded, connector: Connector) -> Plan:
    """How to reach the connector's next hop and what to demand of it; `loaded` holds the credentials."""
    next_hop, folder = connector.next_hop, loaded.path.parent
    plan = Plan(
        host=next_hop.host,
        port=next_hop.port,
        name=loaded.server_name,
        tls=connector.tls,
        dns=dns_of(loaded),
        trust=_trust(folder, connector.trust),
        certificate=str(folder / connector.certificate) if connector.certificate else "",
        key=str(folder / connector.key) if connector.key else "",
        ciphers=connector.ciphers,
        mechanisms=tuple(connector.mechanisms),
        max_iterations=connector.max_iterations,
        login_in_clear=connector.login_in_clear,
        data=str(loaded.data),
        policy_port=connector.policy_port,
    )
    credential = loaded.credentials.get(connector.credential or "")
    return plan if credential is None else plan.logging_in_as(credential)


def make_plans(loaded: Loaded, connector: Connector) -> tuple[Plan, ...]:
    """The plans for each of the connector's next hops, in order; as `make_plan`."""
    first = make_plan(loaded, connector)
    return tuple(replace(first, host=hop.host, port=hop.port) for hop in connector.next_hops)


def dns_of(loaded: Loaded) -> str:
    """The resolver of a configuration, a zone file by its whole path."""
    dns = loaded.settings.server.dns
    return f"{ZONE}{loaded.path.parent / dns.removeprefix(ZONE)}" if dns.startswith(ZONE) else dns


def _trust(folder: Path, trust: str) -> str:
    return trust if trust == "system" or trust.startswith(PIN) else str(folder / trust)
