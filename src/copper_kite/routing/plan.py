"""A connector's settings as what a session needs to know."""

from __future__ import annotations

from copper_kite.net.client import Plan
from copper_kite.settings.load import Loaded
from copper_kite.settings.model import Connector
from copper_kite.smtp.sasl import Secret

__all__ = ["make_plan"]


def make_plan(loaded: Loaded, connector: Connector) -> Plan:
    """How to reach the connector's next hop and what to demand of it; `loaded` holds the credentials."""
    next_hop = connector.next_hop
    credential = loaded.credentials.get(connector.credential or "")
    return Plan(
        host=next_hop.host,
        port=next_hop.port,
        name=loaded.server_name,
        tls=connector.tls,
        trust="system" if connector.trust == "system" else str(loaded.path.parent / connector.trust),
        login=credential.login if credential else "",
        password=credential.password if credential else Secret(""),
    )
