"""Fuzz the delivery and the listener as a whole: `python fuzz/hostile_peers.py -max_total_time=60`.

The fuzzer makes the choices of peers that misbehave (see `tests/hostile`); what must hold then is checked there.
"""

from __future__ import annotations

import sys
from pathlib import Path

import atheris

sys.path.insert(0, str(Path(__file__).parent.parent))

with atheris.instrument_imports(include=["copper_kite.smtp", "copper_kite.net", "copper_kite.relay"]):
    from tests.hostile.clients import hand_in
    from tests.hostile.delivery import deliver


class DataChoices:
    """Chance from the fuzzer's octets; when they are used up, always the first."""

    def __init__(self, data: bytes) -> None:
        self._provider = atheris.FuzzedDataProvider(data)

    def pick(self, count: int) -> int:
        """A number from 0 to `count` - 1."""
        return int(self._provider.ConsumeIntInRange(0, count - 1))


def one_input(data: bytes) -> None:
    """The first octet says from which side."""
    if data[:1] < b"\x80":
        deliver(DataChoices(data[1:])).check()
    else:
        hand_in(DataChoices(data[1:]))


if __name__ == "__main__":
    atheris.Setup(sys.argv, one_input)
    atheris.Fuzz()
