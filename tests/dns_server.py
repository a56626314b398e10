"""A real DNS server with zones of ours, signed, and a resolver that validates them: both from Debian, on loopback."""

from __future__ import annotations

import shutil
import socket
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

import pytest

__all__ = ["DnsServer", "dns_server", "need_dns_programs"]

PROGRAMS = ("nsd", "unbound", "ldns-keygen", "ldns-signzone")
SOA = "$TTL 300\n@ IN SOA ns.example. hostmaster.example. 1 3600 600 86400 300\n@ IN NS ns.example.\n"


@dataclass(frozen=True)
class DnsServer:
    """Where the resolver that validates listens, and the server that does not, as `[server] dns` has them."""

    resolver: str
    authority: str


def _program(name: str) -> str | None:
    return shutil.which(name) or shutil.which(name, path="/usr/sbin:/sbin:/usr/bin")


def need_dns_programs() -> None:
    missing = [name for name in PROGRAMS if _program(name) is None]
    if missing:
        pytest.skip(f"needs Debian's nsd, unbound and ldnsutils; {missing[0]} is not there")


def _free_port() -> int:
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as datagrams:
        datagrams.bind(("127.0.0.1", 0))
        return int(datagrams.getsockname()[1])


def _run(folder: Path, *words: str) -> str:
    program = _program(words[0])
    assert program is not None
    done = subprocess.run([program, *words[1:]], cwd=folder, check=True, capture_output=True, text=True)
    return done.stdout.strip()


def _write_zones(folder: Path, records: str, forged: tuple[str, str]) -> str:
    """`example.` signed, with a text that was changed afterwards (so that its signature is bogus), and reverse zones;
    the trust anchor."""
    (folder / "example.zone").write_text(SOA + "ns IN A 127.0.0.1\n" + records)
    key = _run(folder, "ldns-keygen", "-a", "ECDSAP256SHA256", "-k", "example.")
    _run(folder, "ldns-signzone", "-n", "-o", "example.", "example.zone", key)
    signed = folder / "example.zone.signed"
    if forged[0]:
        text = signed.read_text()
        assert forged[0] in text
        signed.write_text(text.replace(*forged))
    return str(folder / f"{key}.key")


def _reverse_zone(folder: Path, reverse: str) -> None:
    (folder / "reverse.zone").write_text(SOA + reverse)


@contextmanager
def dns_server(
    folder: Path, records: str, reverse: str = "", forged: tuple[str, str] = ("", "")
) -> Iterator[DnsServer]:
    """Serve `records` of `example.`, relative to it, and `reverse` of `2.0.192.in-addr.arpa.`"""
    need_dns_programs()
    folder.mkdir(parents=True, exist_ok=True)
    anchor = _write_zones(folder, records, forged)
    _reverse_zone(folder, reverse)
    authority, resolver = _free_port(), _free_port()
    (folder / "nsd.conf").write_text(
        f'server:\n ip-address: 127.0.0.1@{authority}\n username: ""\n zonesdir: "{folder}"\n database: ""\n'
        f' pidfile: "{folder}/nsd.pid"\n xfrdfile: "{folder}/xfrd"\n zonelistfile: "{folder}/zones"\n server-count: 1\n'
        f' xfrdir: "{folder}"\n cookie-secret-file: "{folder}/cookies"\n'
        "remote-control:\n control-enable: no\n"
        'zone:\n name: "example."\n zonefile: "example.zone.signed"\n'
        'zone:\n name: "2.0.192.in-addr.arpa."\n zonefile: "reverse.zone"\n'
    )
    (folder / "unbound.conf").write_text(
        f'server:\n interface: 127.0.0.1@{resolver}\n username: ""\n chroot: ""\n directory: "{folder}"\n'
        f' pidfile: "{folder}/unbound.pid"\n do-daemonize: no\n use-syslog: no\n do-not-query-localhost: no\n'
        f' trust-anchor-file: "{anchor}"\n module-config: "validator iterator"\n num-threads: 1\n'
        ' local-zone: "2.0.192.in-addr.arpa." nodefault\n domain-insecure: "2.0.192.in-addr.arpa."\n'
        "remote-control:\n control-enable: no\n"
        f'stub-zone:\n name: "example."\n stub-addr: 127.0.0.1@{authority}\n'
        f'stub-zone:\n name: "2.0.192.in-addr.arpa."\n stub-addr: 127.0.0.1@{authority}\n'
    )
    commands = (["nsd", "-d", "-c", str(folder / "nsd.conf")], ["unbound", "-d", "-c", str(folder / "unbound.conf")])
    with (folder / "log").open("wb") as log:
        processes = [
            subprocess.Popen([_program(words[0]) or words[0], *words[1:]], cwd=folder, stdout=log, stderr=log)
            for words in commands
        ]
        try:
            for port in (authority, resolver):
                _until_answers(port, folder)
            yield DnsServer(f"127.0.0.1:{resolver}", f"127.0.0.1:{authority}")
        finally:
            for process in processes:
                process.terminate()
            for process in processes:
                process.wait()


def _until_answers(port: int, folder: Path) -> None:
    import dns.exception
    import dns.message
    import dns.query

    question = dns.message.make_query("example.", "SOA")
    for _ in range(100):
        try:
            if dns.query.udp(question, "127.0.0.1", timeout=0.5, port=port).answer:
                return
        except (dns.exception.DNSException, OSError):
            time.sleep(0.05)  # another process starts
    raise AssertionError((folder / "log").read_text())
