"""Write docs/configuration.md from the model, so that it cannot say anything else than the program does."""

from __future__ import annotations

import sys
import types
import typing
from pathlib import Path

from pydantic import BaseModel
from pydantic_core import PydanticUndefined

from copper_kite.settings import model, recording
from copper_kite.settings.accepted import Accepted
from copper_kite.settings.alarm import ALARM_KINDS, Alarm, ReportSettings
from copper_kite.settings.domain import DomainSettings, TlsReports
from copper_kite.settings.signing import Signing

HEAD = """\
# Configuration

One file, `kite.toml`: the one named by `--config`, then by `$KITE_CONFIG`, then in `~/.config/copper-kite/`, then in
`/etc/copper-kite/`. Unknown keys are errors. Paths count from the file's own folder. This page is made from the model
by `docs/make_configuration.py`; do not edit it.

Durations: `90s`, `15m`, `2h`, `5d`, `1h30m`. Sizes: `35MiB`, `500kB`, or a number of octets.
"""

TAIL = """\

## credentials.toml
Beside `kite.toml`, mode 0600; refused when others can read it. A table for each name: `[beacon]` with `login` and
`password`. A connector names the one it logs in with (`credential = "beacon"`); its mechanism is PLAIN (RFC 4616), and
it goes only under verified TLS (RFC 4954). `kite credential add NAME` writes it;
`enabled = false` puts it out of use.

One that logs in by access tokens (OAuth 2) has `token_endpoint`, `client_id`, and `refresh_token` or `client_secret`;
also `scope`, and `trust`, a CA file for the token server. `kite credential login NAME` writes it.

## accounts.toml
Beside `kite.toml`, mode 0600: for each account a SCRAM-SHA-256 key (RFC 5803), from which its password can be checked
and not found out. `kite account password NAME` writes it.

Under a service manager, files of these names in `$CREDENTIALS_DIRECTORY` are taken instead. systemd puts them there
when the service starts: a changed secret is taken up by `systemctl restart copper-kite`, and the commands say so.

## For editors
`kite config schema > kite.schema.json` writes a JSON Schema of this file. `kite service` prints systemd units; their
exposure, by `systemd-analyze security --offline=true`, is 1.5 of 10 where local users submit mail (systemd 252).
"""

TABLES: tuple[tuple[str, type[BaseModel]], ...] = (
    ("[server]", model.Server),
    ("[identity]", model.Identity),
    ("[[listener]]", model.Listener),
    ("[[account]]", model.Account),
    ("[[connector]]", model.Connector),
    ("[[signing]]", Signing),
    ("[retry]", model.Retry),
    ("[[priority]]", model.PriorityRule),
    ("[guard]", model.Guard),
    ("[log]", recording.Log),
    ("[journal]", recording.Journal),
    ("[metrics]", recording.Metrics),
    ("[[alarm]]", Alarm),
    ("[report]", ReportSettings),
    ("[domain]", DomainSettings),
    ("[tls_reports]", TlsReports),
    ("[[accepted]]", Accepted),
    ("[[other_log]]", recording.OtherLog),
)


def shown_type(annotation: object) -> str:
    """A field's type in words."""
    parts = typing.get_args(annotation)
    origin = typing.get_origin(annotation)
    if origin is typing.Annotated:
        return shown_type(parts[0])
    if origin in (typing.Union, types.UnionType):
        known = [part for part in parts if part is not type(None)]
        return "text" if all("Network" in str(part) for part in known) else shown_type(known[0])
    if origin is typing.Literal:
        return "one of " + ", ".join(f"`{part}`" for part in parts)
    if origin is list:
        return f"list of {shown_type(parts[0])}"
    if origin is dict:
        return "table of text"
    return {bool: "`true` or `false`", int: "number", float: "duration"}.get(annotation, "text")  # type: ignore[arg-type]


# An example of each key, and where it comes from; a key without one is an error here.
EXAMPLES: dict[tuple[str, str], tuple[str, str]] = {
    ("Server", "name"): ('"quay1.ternferries.example"', "RFC 5321 4.1.1.1"),
    ("Server", "data"): ('"/var/lib/copper-kite"', ""),
    ("Server", "drop"): ('"/var/spool/copper-kite"', ""),
    ("Listener", "strict"): ("true", "RFC 6409 8"),
    ("Connector", "long_lines"): ('"refuse"', "RFC 5322 2.1.1"),
    ("Server", "dns"): ('"zone:trial.zone"', "RFC 1035 5"),
    ("Server", "credentials"): ('"credentials.toml"', ""),
    ("Identity", "domain"): ('"ternferries.example"', "RFC 6409 6.3"),
    ("Identity", "recipients"): ('{ root = "duty@ternferries.example" }', "RFC 5321 4.5.1"),
    ("Identity", "senders"): ('{ tidewatch = "tide-alerts@ternferries.example" }', "RFC 6409 6.3"),
    ("Listener", "name"): ('"programs"', ""),
    ("Listener", "bind"): ('["127.0.0.1:25", "unix:/run/copper-kite/submit.sock"]', "RFC 6409 3.1"),
    ("Listener", "tls"): ('"starttls"', "RFC 3207, RFC 8314 3.3"),
    ("Listener", "certificate"): ('"tls/quay1.pem"', "RFC 8314 3"),
    ("Listener", "key"): ('"tls/quay1.key"', "RFC 8314 3"),
    ("Listener", "login"): ('"required"', "RFC 4954, RFC 6409 4.3"),
    ("Listener", "allow"): ('["10.1.2.0/24"]', "RFC 6409 3.3"),
    ("Listener", "open_relay"): ('"yes, I mean it"', ""),
    ("Listener", "max_size"): ('"35MiB"', "RFC 1870"),
    ("Listener", "max_header"): ('"512KiB"', "RFC 5322 2.2"),
    ("Listener", "priority"): ('"bulk"', ""),
    ("Listener", "choose_priority"): ("true", "RFC 6710"),
    ("Listener", "enabled"): ("false", ""),
    ("Account", "name"): ('"ticketing"', "RFC 4616"),
    ("Account", "pace"): ('"10/s"', ""),
    ("Account", "priority"): ('"urgent"', ""),
    ("Account", "enabled"): ("false", ""),
    ("PriorityRule", "senders"): ('["tidewatch@ternferries.example"]', ""),
    ("PriorityRule", "priority"): ('"urgent"', ""),
    ("Connector", "name"): ('"beacon"', ""),
    ("Connector", "recipients"): ('["*.harbouroffice.example"]', ""),
    ("Connector", "senders"): ('["rota@ternferries.example"]', ""),
    ("Connector", "preference"): ("10", "as in RFC 5321 5.1"),
    ("Connector", "hosts"): ('["out.beaconpost.example:587"]', "RFC 5321 2.3.10"),
    ("Connector", "mx"): ("true", "RFC 5321 5.1, RFC 7505"),
    ("Connector", "port"): ("2525", ""),
    ("Connector", "spread"): ("true", "RFC 5321 5.1"),
    ("Connector", "tls"): ('"implicit"', "RFC 8314, RFC 3207"),
    ("Connector", "trust"): ('"harbour-ca.pem"', "RFC 9525"),
    ("Connector", "certificate"): ('"quay1.pem"', "RFC 8446 4.4.2"),
    ("Connector", "key"): ('"quay1.key"', "RFC 8446 4.4.2"),
    ("Connector", "ciphers"): ('"ECDHE+AESGCM"', "RFC 9325 4.2"),
    ("Connector", "credential"): ('"beacon"', "RFC 4954"),
    ("Connector", "mechanisms"): ('["SCRAM-SHA-256"]', "RFC 5802, RFC 7677, RFC 7628"),
    ("Connector", "max_iterations"): ("500000", "RFC 7677 4"),
    ("Connector", "login_in_clear"): ("true", "RFC 4954 6"),
    ("Server", "sessions"): ("1000", "RFC 5321 7.8"),
    ("Server", "sessions_per_client"): ("50", "RFC 5321 7.8"),
    ("Server", "longest_wait"): ('"30s"', "RFC 5321 4.5.3.2"),
    ("Server", "keep_free"): ('"1GiB"', "RFC 1870 6.1"),
    ("Listener", "max_recipients"): ("1000", "RFC 9422 4, RFC 5321 4.5.3.1.8"),
    ("Listener", "max_messages"): ("100", "RFC 9422 4"),
    ("Listener", "pace"): ('"10/s"', ""),
    ("Listener", "patience"): ("50", "RFC 5321 7.8"),
    ("Listener", "longest"): ('"1h"', "RFC 5321 7.8"),
    ("Listener", "idle"): ('"5m"', "RFC 5321 4.5.3.2.7"),
    ("Account", "senders"): ('["ticketing@ternferries.example"]', "RFC 6409 6.1"),
    ("Account", "recipients"): ('["*.passenger.example"]', ""),
    ("Account", "networks"): ('["10.1.2.0/24"]', ""),
    ("Account", "allowance"): ('["300/day", "50/hour"]', ""),
    ("Log", "to"): ('"file:/var/log/copper-kite/kite.log"', ""),
    ("Log", "format"): ('"json"', "RFC 5424"),
    ("Log", "level"): ('"info"', "RFC 5424 6.2.1"),
    ("Log", "max_size"): ('"50MiB"', ""),
    ("Log", "keep"): ("5", ""),
    ("Guard", "allowance"): ('["500/hour"]', ""),
    ("Guard", "surge"): ("10.0", ""),
    ("Guard", "at_least"): ("200", ""),
    ("Server", "max_hops"): ("50", "RFC 5321 6.3"),
    ("Connector", "policy"): ('"dane"', "RFC 7672; RFC 8461"),
    ("Connector", "policy_port"): ("8443", "RFC 8461 3.3"),
    ("Connector", "sign"): ("true", "RFC 6376 5"),
    ("Connector", "spf"): ('"include:spf.beaconpost.example"', "RFC 7208 5.2"),
    ("Server", "addresses"): ('["192.0.2.25", "2001:db8::25"]', "RFC 7208 4.1"),
    ("Signing", "domain"): ('"ternferries.example"', "RFC 6376 3.5"),
    ("Signing", "selector"): ('"r20261129"', "RFC 6376 3.1"),
    ("Signing", "key"): ('"keys/r20261129.ternferries.example.pem"', "RFC 8463"),
    ("Signing", "headers"): ('["From", "To", "Subject", "Date"]', "RFC 6376 5.4"),
    ("Signing", "expires"): ('"14d"', "RFC 6376 3.5"),
    ("Signing", "use"): ('"next"', "RFC 6376 3.1"),
    ("Signing", "since"): ('"2026-11-29"', ""),
    ("Accepted", "risk"): ('"one-host"', ""),
    ("Accepted", "of"): ('"beacon"', ""),
    ("Accepted", "reason"): ('"the provider has many machines behind the name"', ""),
    ("Server", "store"): ('"postgresql://kite@db1.example,db2.example/kite"', ""),
    ("Server", "store_credential"): ('"database"', ""),
    ("Server", "store_tls"): ('"on"', "RFC 9325"),
    ("Server", "store_trust"): ('"database-ca.pem"', "RFC 9525"),
    ("Server", "away"): ('"keep"', ""),
    ("Server", "lease"): ('"30s"', ""),
    ("Server", "backup"): ('"/backup/copper-kite"', ""),
    ("TlsReports", "send"): ("true", "RFC 8460"),
    ("TlsReports", "organization"): ('"Tern Island Ferries"', "RFC 8460 4.4"),
    ("TlsReports", "contact"): ('"duty@crew.example"', "RFC 8460 4.4"),
    ("DomainSettings", "lists"): ('["listed.example"]', "RFC 5782"),
    ("DomainSettings", "selectors"): ('["beacon1"]', "RFC 6376 3.1"),
    ("Connector", "sender"): ('"booking@ternferries.example"', "RFC 5322 3.6.2"),
    ("Connector", "sender_keeps"): ('["ternferries.example"]', ""),
    ("Connector", "allowance"): ('["300/day", "9000/month"]', ""),
    ("Connector", "pace"): ('"10/s"', ""),
    ("Connector", "max_size"): ('"10MiB"', "RFC 1870 6"),
    ("Connector", "sessions"): ("5", "RFC 5321 4.5.4.1"),
    ("Connector", "enabled"): ("false", ""),
    ("Journal", "keep"): ('"30d"', ""),
    ("Journal", "max_size"): ('"10GiB"', ""),
    ("Journal", "keep_counts"): ('"730d"', ""),
    ("ReportSettings", "to"): ('"duty@crew.example"', "RFC 2046 5.1.4"),
    ("ReportSettings", "at"): ('"07:00"', ""),
    ("ReportSettings", "every"): ('"month"', ""),
    ("Alarm", "name"): ('"failing"', ""),
    ("Alarm", "when"): ('"connector_failing"', ""),
    ("Alarm", "limit"): ('"30m"', ""),
    ("Alarm", "after"): ('"5m"', ""),
    ("Alarm", "again"): ('"4h"', ""),
    ("Alarm", "to"): ('"duty@crew.example"', ""),
    ("Alarm", "connector"): ('"spare"', ""),
    ("Alarm", "command"): ('"/usr/local/bin/page-somebody"', ""),
    ("Alarm", "enabled"): ("false", ""),
    ("Metrics", "bind"): ('"127.0.0.1:9587"', ""),
    ("Metrics", "allow"): ('["127.0.0.0/8", "::1"]', ""),
    ("OtherLog", "name"): ('"beacon"', ""),
    ("OtherLog", "files"): ('["/var/log/beacon/mail.log*"]', "RFC 5424"),
    ("OtherLog", "map"): ('"beacon-map.toml"', ""),
    ("Retry", "waits"): ('["1m", "5m", "15m", "30m", "1h"]', "RFC 5321 4.5.4.1"),
    ("Retry", "lifetime"): ('"5d"', "RFC 5321 4.5.4.1"),
    ("Retry", "notice_after"): ('"4h"', "RFC 3461 5.2.5"),
    ("Retry", "keep_failed"): ('"7d"', ""),
    ("Retry", "notice_copy"): ('"duty@ternferries.example"', "RFC 5321 4.5.5"),
}


def shown_default(value: object) -> str:
    """A default as one would write it."""
    if value is PydanticUndefined:
        return "required"
    if value is None or value in ({}, []):
        return "none"
    if isinstance(value, list):
        return "`[" + ", ".join(f'"{part}"' if not isinstance(part, float) else span(part) for part in value) + "]`"
    if isinstance(value, float):
        return f"`{span(value)}`"
    if isinstance(value, bool):
        return f"`{str(value).lower()}`"
    return f'`"{value}"`' if isinstance(value, str) else f"`{value}`"


def span(seconds: float) -> str:
    """Seconds as a duration."""
    unit, length = next((unit, length) for unit, length in (("d", 86400), ("h", 3600), ("m", 60), ("s", 1))
                        if seconds >= length or length == 1)  # fmt: skip
    return f'"{seconds / length:g}{unit}"'


def limit_text(kind: str) -> str:
    """The limit that an alarm of this kind has by itself."""
    limit = ALARM_KINDS[kind].default
    if not limit:
        return ""
    if kind in ("connector_failing", "oldest_waiting", "certificate_expires"):
        return f"`{span(limit)}`"
    return '`"1GiB"`' if kind == "disk" else f"`{limit:g}`"


def page() -> str:
    """The whole page."""
    out = [HEAD]
    for title, table in TABLES:
        about = (table.__doc__ or "").partition(": ")[2]
        out.append(f"\n## {title}\n{about[:1].upper()}{about[1:]}\n\n")
        out.append("| key | type | default | meaning | example | source |\n| --- | --- | --- | --- | --- | --- |\n")
        own = [name for name in table.model_fields if name in table.__annotations__]
        for name in dict.fromkeys([*own, *table.model_fields]):  # what it has from another class comes last
            field = table.model_fields[name]
            cells = (f"`{name}`", shown_type(field.annotation), shown_default(field.default), field.description or "")
            example, source = EXAMPLES[table.__name__, name]
            out.append(f"| {' | '.join((*cells, f'`{example}`', source))} |\n")
        if table is Alarm:
            out.append("\n| when | it is raised while | limit, unless given |\n| --- | --- | --- |\n")
            out += [f"| `{name}` | {kind.about} | {limit_text(name)} |\n" for name, kind in ALARM_KINDS.items()]
    return "".join([*out, TAIL])


if __name__ == "__main__":
    target = Path(__file__).with_name("configuration.md")
    if "--check" in sys.argv:
        sys.exit(
            target.read_text() != page() and "docs/configuration.md is out of date: run docs/make_configuration.py"
        )
    target.write_text(page())
