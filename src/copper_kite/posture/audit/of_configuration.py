"""Weaknesses in the settings."""

from __future__ import annotations

import ipaddress
import ssl
from collections.abc import Iterator

from copper_kite.net import all_on_this_machine, system_resolvers
from copper_kite.posture.audit.weakness import Weakness, kite
from copper_kite.settings import Account, Connector, Listener, Loaded, is_everybody
from copper_kite.smtp import SCRAM_ITERATIONS

__all__ = ["accounts", "connectors", "listeners", "server"]

DAY = 86400.0
SHORT_LIFETIME = 2 * DAY
SHORT_JOURNAL = 7 * DAY
WIDEST = {4: 24, 6: 64}  # prefix lengths; wider networks are reported
LOOPBACK = "allow=127.0.0.0/8,::1"


def connectors(loaded: Loaded) -> Iterator[Weakness]:
    """Of each enabled connector."""
    for entry in loaded.settings.connector:
        if entry.enabled:
            yield from _ways(entry)
            yield from _strength(loaded, entry)


def _ways(entry: Connector) -> Iterator[Weakness]:
    name, local = entry.name, not entry.mx and _is_loopback(entry.next_hop.host)
    if entry.login_in_clear:
        cure = kite("connector", "set", name, "login_in_clear=")
        yield Weakness("login-in-clear", name, f"{name} may log in without verified TLS", cure, True)
    if entry.tls == "off" and not local:
        cure = kite("connector", "set", name, f"tls={'opportunistic' if entry.mx else 'starttls'}")
        yield Weakness("mail-in-clear", name, f"{name} sends mail in clear to {entry.where}", cure)
    if entry.tls == "opportunistic" and entry.hosts and not local:
        cure = kite("connector", "set", name, "tls=starttls")
        yield Weakness("unverified-way", name, f"{name} does not verify the host at {entry.where}", cure)
    if entry.ciphers and (weak := _weak_ciphers(entry.ciphers)):
        cure = kite("connector", "set", name, "ciphers=")
        yield Weakness("weak-ciphers", name, f"{name} allows {', '.join(weak[:3])}", cure, True)


def _strength(loaded: Loaded, entry: Connector) -> Iterator[Weakness]:
    name = entry.name
    if entry.mx and entry.policy == "off" and entry.tls != "off":
        cure = kite("connector", "set", name, "policy=")
        yield Weakness("policy-off", name, f"{name} ignores DANE and MTA-STS", cure, True)
    if entry.sign is False and loaded.settings.signing:
        cure = kite("connector", "set", name, "sign=")
        yield Weakness("unsigned-way", name, f"{name} sends mail unsigned that could be signed", cure)
    if len(entry.hosts) == 1:
        reason = "its provider has many machines behind the name"
        cure = kite("audit", "accept", "one-host", name, "--reason", reason)
        advice = f"or name a second one: kite connector set {name} hosts+=HOST"
        yield Weakness("one-host", name, f"{name} has only one host, {entry.where}", cure, advice=advice)


def _weak_ciphers(ciphers: str) -> list[str]:
    """The ciphers for TLS 1.2 without forward secrecy or without authenticated encryption (RFC 9325)."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    try:
        context.set_ciphers(ciphers)
    except ssl.SSLError:
        return []
    return [
        str(cipher["name"]) for cipher in context.get_ciphers()
        if cipher["protocol"] != "TLSv1.3" and not (cipher["aead"] and cipher["kea"] in ("kx-ecdhe", "kx-dhe"))
    ]  # fmt: skip


def _is_loopback(host: str) -> bool:
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return host == "localhost"


def listeners(loaded: Loaded) -> Iterator[Weakness]:
    """Of each enabled listener."""
    for entry in loaded.settings.listener:
        if not entry.enabled:
            continue
        wide = [str(network) for network in entry.allow if _is_wide(network)]
        if wide:
            cure = kite("listener", "set", entry.name, LOOPBACK, *(["open_relay="] if entry.open_relay != "no" else []))
            text = f"{entry.name} accepts mail from {', '.join(wide)} without a login"
            yield Weakness("wide-network", entry.name, text, cure, advice="then name single machines: allow+=ADDRESS")
        if _is_public(entry) and entry.tls == "off":
            bind = ",".join(f"127.0.0.1:{item.port}" if not item.path else f"unix:{item.path}" for item in entry.bind)
            cure = kite("listener", "set", entry.name, f"bind={bind}")
            text = f"{entry.name} listens for other machines without TLS"
            advice = f"or give it TLS: kite listener set {entry.name} tls=starttls certificate=FILE key=FILE"
            yield Weakness("clear-listener", entry.name, text, cure, advice=advice)


def _is_wide(network: ipaddress.IPv4Network | ipaddress.IPv6Network) -> bool:
    return is_everybody(network) or (not network.is_loopback and network.prefixlen < WIDEST[network.version])


def _is_public(entry: Listener) -> bool:
    return any(not item.path and not ipaddress.ip_address(item.host).is_loopback for item in entry.bind)


def accounts(loaded: Loaded) -> Iterator[Weakness]:
    """Of each account that can log in."""
    public = any(entry.enabled and _is_public(entry) for entry in loaded.settings.listener)
    domain = loaded.settings.identity.domain or loaded.server_name
    for entry in loaded.settings.account:
        if entry.enabled:
            yield from _account(loaded, entry, domain, public=public)


def _account(loaded: Loaded, entry: Account, domain: str, *, public: bool) -> Iterator[Weakness]:
    name = entry.name
    if not entry.senders:
        cure = kite("account", "set", name, f"senders={domain}")
        yield Weakness("any-sender", name, f"{name} may send as any address", cure)
    if not entry.allowance and not loaded.settings.guard.allowance:
        cure = kite("account", "set", name, "allowance=1000/day")
        yield Weakness("no-account-allowance", name, f"{name} may send any number of messages", cure)
    if public and not entry.networks:
        cure = kite("account", "set", name, "networks=10.0.0.0/8,172.16.0.0/12,192.168.0.0/16,127.0.0.0/8")
        yield Weakness("login-from-anywhere", name, f"{name} may log in from any address", cure)
    key = loaded.accounts.get(name)
    if key is not None and key.iterations < SCRAM_ITERATIONS:
        text = f"the key of {name} was made with {key.iterations} iterations; {SCRAM_ITERATIONS} are made now"
        yield Weakness("old-password-key", name, text, kite("account", "password", name))


def server(loaded: Loaded) -> Iterator[Weakness]:
    """Of the server as a whole."""
    settings = loaded.settings
    if settings.guard.surge is None and not settings.guard.allowance:
        cure = kite("config", "set", "guard", "surge=3")
        yield Weakness(
            "no-guard", "", "no limit applies to a sender that suddenly sends far more than usual", cure, True
        )
    if not any(alarm.enabled for alarm in settings.alarm):
        to = settings.identity.recipients.get("root") or loaded.postmaster
        cure = kite("alarm", "add", "failing", "when=connector_failing", "limit=30m", f"to={to}")
        yield Weakness("no-alarm", "", "there is no alarm for mail that has stopped", cure, True)
    if settings.identity.domain and not {"root", "postmaster"} & settings.identity.recipients.keys():
        cure = kite("config", "set", "identity", f'recipients={{ root = "duty@{settings.identity.domain}" }}')
        yield Weakness(
            "nobody-reads-root",
            "",
            "no recipient is set for mail to root",
            cure,
            advice="use the address of somebody who reads it",
        )
    if settings.retry.lifetime < SHORT_LIFETIME:
        cure = kite("config", "set", "retry", "lifetime=5d")
        yield Weakness("short-lifetime", "", f"mail fails after {settings.retry.lifetime / 3600:g} hours", cure, True)
    if settings.journal.keep < SHORT_JOURNAL:
        cure = kite("config", "set", "journal", "keep=90d")
        text = f"the journal keeps {settings.journal.keep / DAY:g} days"
        yield Weakness("short-journal", "", text, cure, True)
    bind = settings.metrics.bind
    if bind is not None and not bind.path and any(map(is_everybody, settings.metrics.allow)):
        cure = kite("config", "set", "metrics", LOOPBACK)
        yield Weakness("open-metrics", "", f"anybody who can reach {bind} may read the metrics", cure)
    if settings.server.dns == "system" and any(item.mx and item.policy != "off" for item in settings.connector):
        yield from _resolver()


def _resolver() -> Iterator[Weakness]:
    servers = system_resolvers()
    if not all_on_this_machine(servers):
        cure = kite("config", "set", "server", "dns=127.0.0.1")
        text = f"names are looked up at {', '.join(servers) or 'no server'}, which is not on this machine"
        yield Weakness("unvalidated-dns", "", text, cure, advice="with a resolver here that validates DNSSEC")
