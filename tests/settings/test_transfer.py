"""From one server to the next: what goes along, what does not, and what two files differ in by meaning."""

from __future__ import annotations

from pathlib import Path

import pytest

from copper_kite.errors import InputError
from copper_kite.settings.compare import compare_settings
from copper_kite.settings.edit import Document
from copper_kite.settings.load import Loaded, load_source
from copper_kite.settings.schema import json_schema
from copper_kite.settings.transfer import export_text, import_into, parse_part

QUAY1 = """\
[server]
name = "quay1.ternferries.example"
data = "queue"
[identity]
domain = "ternferries.example"
[[listener]]
name = "programs"
bind = ["127.0.0.1:2525"]
# The provider
[[connector]]
name = "beacon"   # general
hosts = ["out.beaconpost.example:587"]
preference = 30
[[connector]]
name = "harbour"
hosts = ["gate.harbouroffice.example"]
recipients = ["harbouroffice.example"]
"""
QUAY2 = """\
[server]
name = "quay2.ternferries.example"
[[listener]]
name = "programs"
bind = ["127.0.0.1:9925"]
max_size = "1MiB"
[[connector]]
name = "beacon"
hosts = ["old.beaconpost.example"]
sessions = 3
"""


def loaded(text: str) -> Loaded:
    return load_source(Path("/nowhere/kite.toml"), text, secrets=False)


def imported(text: str) -> Loaded:
    document = Document(QUAY2)
    import_into(document, text)
    return loaded(document.text)


def test_all_that_can_go_makes_the_other_side_agree() -> None:
    text = export_text(loaded(QUAY1), [])
    assert "quay1" not in text.partition("\n")[2] and "[server]" not in text and "# general" in text
    after = imported(text)
    assert compare_settings(loaded(QUAY1), after) == []
    assert [(d.place, d.right) for d in compare_settings(loaded(QUAY1), after, everything=True)] == [
        ("server name", "quay2.ternferries.example"), ("server data", "/var/lib/copper-kite"),
        ("listener programs bind", "127.0.0.1:9925"),
    ]  # fmt: skip


def test_a_part_goes_alone() -> None:
    after = imported(export_text(loaded(QUAY1), [parse_part("connector:harbour")]))
    assert [entry.name for entry in after.settings.connector] == ["beacon", "harbour"]
    assert after.settings.connector[0].sessions == 3 and after.settings.identity.domain is None
    for wrong in ("connector", "server", "identity:x", "harbour"):
        with pytest.raises(InputError):
            parse_part(wrong)
    with pytest.raises(InputError):
        export_text(loaded(QUAY1), [("connector", "nobody")])
    with pytest.raises(InputError):
        imported("[server]\nname = 'evil.example'\n")


def test_secrets_and_files_are_named_not_sent() -> None:
    text = QUAY1.replace("preference = 30", 'credential = "beacon"\ntrust = "ca.pem"')
    source = load_source(Path("/nowhere/kite.toml"), QUAY1, secrets=False)
    with_secret = Loaded(source.path, _settings(text), source.server_name, source.data, {}, text)
    out = export_text(with_secret, [])
    assert "kite credential set beacon" in out and "needs this file beside its configuration: ca.pem" in out


def _settings(text: str) -> object:
    import tomllib

    from copper_kite.settings.model import Settings

    return Settings.model_validate(tomllib.loads(text))


def test_differences_are_told_by_meaning() -> None:
    same = QUAY1.replace("preference = 30", "preference = 30 # x\nsessions = 10").replace(
        '"127.0.0.1:2525"', ' "127.0.0.1:1"'
    )
    assert compare_settings(loaded(QUAY1), loaded(same)) == []
    result = compare_settings(loaded(QUAY1), loaded(QUAY2))
    assert ("connector harbour", "there", None) in result
    assert ("connector beacon hosts", "out.beaconpost.example:587", "old.beaconpost.example") in result


def test_the_schema_names_every_key() -> None:
    schema = json_schema()
    connector = schema["properties"]["connector"]["items"]
    tls = connector["properties"]["tls"]
    assert tls["enum"] == ["implicit", "starttls", "opportunistic", "off"] and tls["default"] == "starttls"
    assert tls["description"].startswith('"implicit" (RFC 8314), "starttls" (RFC 3207; demanded, not hoped for)')
    assert connector["required"] == ["name"] and connector["additionalProperties"] is False
    assert schema["properties"]["retry"]["properties"]["lifetime"]["default"] == "5d"
