"""Where a domain takes submissions, by its SRV records (RFC 6186 3, RFC 8314 5.1)."""

from __future__ import annotations

import asyncio
from pathlib import Path

import pytest

from copper_kite.net import Lookups, submission_services

ZONE = """$TTL 300
_submissions._tcp.both.example. IN SRV 0 1 465 In.Both.example.
_submission._tcp.both.example. IN SRV 20 1 587 last.both.example.
_submission._tcp.both.example. IN SRV 10 1 587 light.both.example.
_submission._tcp.both.example. IN SRV 10 5 2587 heavy.both.example.
_submission._tcp.never.example. IN SRV 0 0 0 .
"""


@pytest.mark.parametrize(
    ("domain", "expected"),
    [
        (
            "both.example",
            [
                ("in.both.example", 465, "implicit"),
                ("heavy.both.example", 2587, "starttls"),
                ("light.both.example", 587, "starttls"),
                ("last.both.example", 587, "starttls"),
            ],
        ),
        ("never.example", []),
        ("nothing.example", []),
    ],
)
def test_services_come_by_tls_and_rank(folder: Path, domain: str, expected: list[tuple[str, int, str]]) -> None:
    (folder / "trial.zone").write_text(ZONE)
    assert asyncio.run(submission_services(domain, Lookups(f"zone:{folder}/trial.zone", 2.0))) == expected
