from __future__ import annotations

from collections.abc import Iterator

import pytest

from copper_kite.net.authority import make_authority
from tests.dns_server import dns_server
from tests.relay.policy_ground import DOMAINS, Ground, zone


@pytest.fixture(scope="module")
def ground(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Ground]:
    folder = tmp_path_factory.mktemp("policies")
    names = [f"{host}.{domain}.example" for domain in DOMAINS for host in ("mx", "mta-sts")]
    good, bad = make_authority(folder / "good", names), make_authority(folder / "bad", ["other.example"], "expired")
    good.certificate.write_bytes(good.certificate.read_bytes() + good.authority.read_bytes())  # as DANE-TA wants
    # The signature of one TLSA record does not hold: the record was changed after it was made.
    with dns_server(folder / "dns", zone(good, bad), "", ("ab" * 32, "cd" * 32)) as running:
        yield Ground(running, good, bad)
