"""Patterns of line maps: which of them may take for ever is known before any line is looked at."""

from __future__ import annotations

import pytest

from copper_kite.trace.linemap import shipped_map, shipped_maps
from copper_kite.trace.patterns import may_take_for_ever


@pytest.mark.parametrize(
    "pattern", [r"(a+)+$", r"(?:x*)*y", r"(a|b+)*c", r"((?:ab)+?c?)+", r"(?=(a+)+)b", r"(\s*\w+)*:"]
)
def test_a_repetition_within_a_repetition(pattern: str) -> None:
    assert may_take_for_ever(pattern)


@pytest.mark.parametrize(
    "pattern", [r"id=(\S+)", r"a+b+c*", r"(?:a+){2}", r"(?:a++)*+", r"(?>a+)+", r"[0-9]{1,3}(?:\.[0-9]{1,3}){3}"]
)
def test_what_is_harmless(pattern: str) -> None:
    assert not may_take_for_ever(pattern)


def test_the_maps_that_come_with_the_product_can_be_used() -> None:
    assert all(shipped_map(name).names for name in shipped_maps())
