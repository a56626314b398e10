"""The ferry line's domain as a zone file, and the keys that sign its mail."""

from __future__ import annotations

from pathlib import Path

from copper_kite.mail import key_record, make_signing_key, read_signing_key

__all__ = ["KEYS", "ZONE", "write_domain"]

ZONE = "ferries.zone"
KEYS = {"r20260504": "rsa", "e20260504": "ed25519"}  # selector → kind

_RECORDS = """\
; What DNS says of the ferry line, instead of DNS itself.
$TTL 300
localhost.                        IN A    127.0.0.1
ternferries.example.              IN MX   10 mx1.ternferries.example.
ternferries.example.              IN TXT  "v=spf1 ip4:192.0.2.25 include:spf.beaconpost.example -all"
mx1.ternferries.example.          IN A    192.0.2.7
quay1.ternferries.example.        IN A    192.0.2.25
25.2.0.192.in-addr.arpa.          IN PTR  quay1.ternferries.example.
_dmarc.ternferries.example.       IN TXT  "v=DMARC1; p=quarantine; rua=mailto:dmarc@ternferries.example"
_smtp._tls.ternferries.example.   IN TXT  "v=TLSRPTv1; rua=mailto:tls@ternferries.example"
spf.beaconpost.example.           IN TXT  "v=spf1 ip4:203.0.113.0/24 include:more.beaconpost.example ~all"
more.beaconpost.example.          IN TXT  "v=spf1 ip4:198.51.100.128/25 ~all"
"""


def write_domain(folder: Path) -> None:
    """The zone file, and new keys whose records stand in it."""
    (folder / "keys").mkdir(exist_ok=True)
    lines = [_RECORDS]
    for selector, kind in KEYS.items():
        file = folder / "keys" / f"{selector}.ternferries.example.pem"
        file.touch(mode=0o600)
        file.write_bytes(make_signing_key(kind))
        record = key_record(read_signing_key(file))
        parts = " ".join(f'"{record[place : place + 255]}"' for place in range(0, len(record), 255))
        lines.append(f"{selector}._domainkey.ternferries.example. IN TXT {parts}\n")
    (folder / ZONE).write_text("".join(lines))
