"""What tests of connectors, probes and surveys say of the policies of a host."""

from __future__ import annotations

import asyncio
import json
import time
from dataclasses import replace
from pathlib import Path

import pytest
from cryptography import x509
from cryptography.hazmat.primitives.serialization import Encoding

from copper_kite.net import StsPolicies
from copper_kite.routing import make_plan
from copper_kite.session import Letter, Survey, exchangers, run_survey
from copper_kite.session.policies_seen import policies_seen
from copper_kite.smtp import Envelope
from copper_kite.words import Cause
from tests.relay.policy_ground import PORT, Ground, Mail, mail
from tests.support import kite


async def test_the_test_of_a_connector_shows_what_policies_demand(folder: Path, ground: Ground) -> None:
    async with mail(folder, ground) as here:

        async def said(domain: str) -> tuple[int, str]:
            words = ("connector", "test", "direct", "--to", f"x@{domain}.example")
            done = await asyncio.to_thread(kite, *words, config=here.loaded.path)
            return done.returncode, " ".join(done.stdout.decode().split())

        status, shown = await said("match")
        assert status == 0
        assert "policy DANE, TLSA 3 1 1" in shown
        status, shown = await said("mismatch")
        assert status != 0
        assert "publishes in DNS which certificate it has (DANE), and shows another" in shown
        status, shown = await said("strange")
        assert status != 0
        assert "the MTA-STS policy of strange.example does not allow mx.strange.example" in shown


async def survey(here: Mail, domain: str) -> Survey:
    """Meet all exchangers of a domain as `kite connector test` does."""
    first, recipient = make_plan(here.loaded, here.loaded.settings.connector[0]), f"x@{domain}.example"
    policies = StsPolicies(None, time.time, first.dns, first.trust, first.policy_port)
    facts = {"connector": "direct", "mx": True, "recipient": recipient}
    hosts = await exchangers(first, recipient, {here.loaded.server_name}, facts, policies)
    return await run_survey(hosts, facts, Letter(Envelope("", (recipient,), 0, False, False), None))


@pytest.mark.parametrize(
    ("domain", "ways"),
    [
        ("match", {"mx.match.example": None}),
        ("mismatch", {"mx.mismatch.example": Cause.DANE_MISMATCH}),
        ("forged", {"mx.forged.example": Cause.DANE_UNKNOWN}),
        ("enforce", {"mx.enforce.example": Cause.CERTIFICATE_UNTRUSTED}),
        ("strange", {"mx.strange.example": Cause.STS_NO_HOST}),
        ("second", {"mx.second.example": Cause.DANE_MISMATCH, "mx.match.example": None}),
        ("nowhere", {"nowhere.example": Cause.DOMAIN_NOT_FOUND}),
    ],
)
async def test_every_exchanger_is_met_as_its_policies_demand(
    folder: Path, ground: Ground, domain: str, ways: dict[str, Cause | None]
) -> None:
    async with mail(folder, ground) as here:
        met = await survey(here, domain)
    assert {way.plan.host: way.failure and way.failure.cause for way in met.ways} == ways
    assert met.passed is not any(ways.values())
    if len(ways) > 1:
        assert met.verdict.meaning.startswith(f"Mail goes by mx.match.example:{PORT}. ")


@pytest.mark.parametrize(
    ("host", "recipient", "shown", "said"),
    [
        ("match", "x@notlsa.example", True, {"DANE": "its certificate fits"}),
        ("mismatch", "x@notlsa.example", True, {"DANE": "senders that use DANE refuse it"}),
        ("mismatch", "x@notlsa.example", False, {"DANE": "senders that use DANE refuse a session without"}),
        ("unusable", "x@notlsa.example", True, {"DANE": "without verification"}),
        ("forged", "x@notlsa.example", True, {"DANE": "senders that use DANE do not use this host"}),
        ("notlsa", "x@notlsa.example", True, {}),
        ("notlsa", "x@enforce.example", True, {"MTA-STS of enforce.example": "senders refuse it"}),
        ("x.testing", "x@testing.example", True, {"MTA-STS of testing.example": "testing, allows this host"}),
        ("notlsa", "x@down.example", True, {"MTA-STS of down.example": "404"}),
    ],
)
async def test_policies_seen_from_outside(
    folder: Path, ground: Ground, host: str, recipient: str, shown: bool, said: dict[str, str]
) -> None:
    chain = [x509.load_pem_x509_certificate(ground.bad.certificate.read_bytes()).public_bytes(Encoding.DER)]
    async with mail(folder, ground) as here:
        name = f"{host}.example" if "." in host else f"mx.{host}.example"
        plan = replace(make_plan(here.loaded, here.loaded.settings.connector[0]), host=name, tls="starttls")
        seen = await policies_seen(plan, chain if shown else [], [recipient])
        assert await policies_seen(replace(plan, tls="off"), chain, [recipient]) == {}
    assert seen.keys() == said.keys()
    for name, words in said.items():
        assert words in seen[name]


async def test_a_probe_says_who_would_refuse(folder: Path, ground: Ground) -> None:
    words = ("--tls", "starttls", "--trust", ground.bad.authority, "--to", "x@notlsa.example", "--json")
    async with mail(folder, ground) as here:
        done = await asyncio.to_thread(kite, "probe", f"mx.mismatch.example:{PORT}", *words, config=here.loaded.path)
    assert json.loads(done.stdout)["policies"]["DANE"].endswith("senders that use DANE refuse it")
