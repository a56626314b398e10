"""Domains with policies behind a real DNS server whose zones are signed, their only host, and a server that sends to it."""

from __future__ import annotations

import hashlib
import time
from collections.abc import AsyncIterator
from contextlib import AsyncExitStack, asynccontextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from cryptography import x509
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat

from copper_kite.net.authority import CertificateFiles
from copper_kite.relay.service import Service
from copper_kite.session.standin import Caught, StandIn, StandInPlan
from copper_kite.session.web_stand_in import WebStandIn, policy_responder
from copper_kite.settings import Loaded, load_configuration, server_context
from copper_kite.store import Record, open_store
from copper_kite.words import State
from tests.configuration import connector, site_text
from tests.dns_server import DnsServer
from tests.looping import happens
from tests.relay.test_relay import letter, talk
from tests.support import StoppedClock, converse, free_port

PORT = free_port()  # of all mail exchangers: TLSA records name it


def digest(certificate: Path, selector: int, algorithm: str) -> str:
    result = x509.load_pem_x509_certificate(certificate.read_bytes())
    whole = result.public_bytes(Encoding.DER)
    key = result.public_key().public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)
    octets = key if selector else whole
    return octets.hex() if algorithm == "" else hashlib.new(algorithm, octets).hexdigest()


@dataclass
class Ground:
    """The DNS server, and where certificates are: `good` for mx.NAME.example and policy hosts, `bad` expired and for
    another name."""

    dns: DnsServer
    good: CertificateFiles
    bad: CertificateFiles


# domain → the TLSA records of its only host, of a certificate that is shown
DOMAINS = ("match", "whole", "anchor", "exact", "mismatch", "unusable", "forged", "notlsa", "insecure", "clear", "second",
           "enforce", "testing", "strange", "strangetest", "down", "twice", "none", "testclear", "both")  # fmt: skip


def zone(good: CertificateFiles, bad: CertificateFiles) -> str:
    key, whole = digest(bad.certificate, 1, "sha256"), digest(bad.certificate, 0, "sha512")
    anchor, wrong = digest(good.authority, 0, "sha256"), "00" * 32
    tlsa = {
        "match": f"3 1 1 {key}", "whole": f"3 0 2 {whole}", "exact": f"3 1 0 {digest(bad.certificate, 1, '')}",
        "anchor": f"2 0 1 {anchor}", "mismatch": f"3 1 1 {wrong}", "unusable": f"1 1 1 {key}", "forged": f"3 1 1 {'ab' * 32}",
        "clear": f"3 1 1 {key}", "second": f"3 1 1 {wrong}", "both": f"3 1 1 {wrong}",
    }  # fmt: skip
    lines = []
    for domain in DOMAINS:
        lines += [f"{domain} IN MX 10 mx.{domain}", f"mx.{domain} IN A 127.0.0.1", f"mta-sts.{domain} IN A 127.0.0.1"]
        if domain in tlsa:
            lines.append(f"_{PORT}._tcp.mx.{domain} IN TLSA {tlsa[domain]}")
        if domain in ("enforce", "testing", "strange", "strangetest", "down", "none", "testclear", "both"):
            lines.append(f'_mta-sts.{domain} IN TXT "v=STSv1; id=1;"')
    lines += [
        "second IN MX 20 mx.match",
        '_mta-sts.twice IN TXT "v=STSv1; id=1"',
        '_mta-sts.twice IN TXT "v=STSv1; id=2"',
    ]
    return "\n".join(lines) + "\n"


def policy(mode: str, host: str, max_age: int = 86400) -> str:
    return f"version: STSv1\r\nmode: {mode}\r\nmx: {host}\r\nmax_age: {max_age}\r\n"


POLICIES = {
    "enforce.example": policy("enforce", "mx.enforce.example"),
    "testing.example": policy("testing", "*.testing.example"),
    "strange.example": policy("enforce", "*.elsewhere.example"),
    "strangetest.example": policy("testing", "mail.elsewhere.example"),
    "testclear.example": policy("testing", "mx.testclear.example"),
    "twice.example": policy("enforce", "nothing.example"),
    "none.example": "version: STSv1\nmode: none\nmax_age: 86400\n",
    "both.example": policy("enforce", "mx.both.example"),
}


@dataclass
class Mail:
    """A server that sends straight to exchangers, and what they took."""

    loaded: Loaded
    service: Service
    caught: list[Caught]
    web: WebStandIn
    clock: StoppedClock

    async def send(self, domain: str, local: str = "x") -> Record:
        """Send to a domain and wait for the end of the first attempt."""
        port = self.service.endpoints[0].port
        await converse(port, talk(letter(f"{local}@{domain}.example")))
        with open_store(self.loaded.store).reader() as reader:

            def rows() -> list[Any]:
                return [
                    row for row in reader.queue(tuple(State)) if row.recipient.address == f"{local}@{domain}.example"
                ]

            await happens(lambda: any(row.recipient.state is not State.QUEUED for row in rows()))
            return reader.record(rows()[-1].message.id)


@asynccontextmanager
async def mail(
    folder: Path, ground: Ground, *, shows: str = "bad", tls: str = "starttls", respond: Any = None, **keys: Any
) -> AsyncIterator[Mail]:
    files = ground.good if shows == "good" else ground.bad
    caught: list[Caught] = []
    context = None if tls == "off" else server_context(str(files.certificate), str(files.key))
    stand_in = StandIn(
        StandInPlan(name="mx", folder=folder / "caught", tls=tls, context=context, logins={}), caught.append
    )
    web = WebStandIn(
        respond or policy_responder(POLICIES), server_context(str(ground.good.certificate), str(ground.good.key))
    )
    async with AsyncExitStack() as stack:
        await stand_in.start("127.0.0.1", PORT)
        stack.push_async_callback(stand_in.stop)
        port = await web.start("127.0.0.1", 0)
        stack.push_async_callback(web.stop)
        config = folder / "kite.toml"
        config.write_text(site_text(
            connector("direct", mx=True, port=PORT, policy_port=port, trust=str(ground.good.authority),
                      **{"tls": "opportunistic", **keys}),
            bind=f"127.0.0.1:{free_port()}", server={"dns": ground.dns.resolver},
        ))  # fmt: skip
        clock = StoppedClock(time.time() - 60.0)
        service = await Service.start(load_configuration(config), clock)
        stack.push_async_callback(service.stop)
        yield Mail(load_configuration(config), service, caught, web, clock)
