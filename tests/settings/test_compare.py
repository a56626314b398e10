"""Two configurations compared by what they mean."""

from __future__ import annotations

from pathlib import Path

from copper_kite.settings import compare_settings, load_configuration
from tests.configuration import connector, site_text, table


def test_lists_whose_entries_have_no_name_are_compared_by_what_they_are_about(tmp_path: Path) -> None:
    base = (connector("beacon", "out.beaconpost.example", tls="off"),)
    item = (
        table("[[signing]]", domain="a.example", selector="s1", key="k"),
        table("[[priority]]", senders=["*"], priority="bulk"),
    )
    other = (
        table("[[signing]]", domain="a.example", selector="s2", key="k"),
        table("[[accepted]]", risk="one-host", reason="x"),
    )
    sides = []
    for number, tables in enumerate((item, other)):
        file = tmp_path / f"{number}.toml"
        file.write_text(site_text(*base, *tables, bind="127.0.0.1:2525"))
        sides.append(load_configuration(file, secrets=False))
    assert compare_settings(sides[0], sides[0]) == []
    assert {(place, left, right) for place, left, right in compare_settings(*sides)} == {
        ("signing a.example s1", "there", None),
        ("signing a.example s2", None, "there"),
        ("priority 1", "there", None),
        ("accepted one-host", None, "there"),
    }
