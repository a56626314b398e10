"""The configuration as a scenario changes it, and as a rehearsal can use it."""

from __future__ import annotations

import difflib
from collections.abc import Sequence

from copper_kite.errors import InputError
from copper_kite.rehearsal.scenario import Scenario
from copper_kite.settings import (
    Connector,
    Document,
    Loaded,
    Settings,
    apply_assignments,
    load_source,
    model_of,
    parse_assignment,
)

__all__ = ["changed", "unknown_name"]

NAMED = ("connector", "listener", "account")  # tables whose entries have names


def changed(loaded: Loaded, scenario: Scenario) -> Loaded:
    """The configuration with the scenario's keys, allowances and without some connectors. Raises InputError for what
    is not there, SettingsError for what cannot be."""
    document = Document(loaded.source)
    for name in scenario.without:
        _demand(loaded, name)
        document.remove("connector", name)
    for limit in scenario.allowance:
        _demand(loaded, limit.name)
        document.set("connector", limit.name, "allowance", [str(limit.allowance)])
    for text in scenario.set:
        _assign(document, text)
    if document.text == loaded.source:
        return _rehearsed(loaded)
    return _rehearsed(load_source(loaded.path, document.text, secrets=False))


def _assign(document: Document, text: str) -> None:
    """`connector.beacon.sessions=5`, `retry.waits=1m,5m`. Raises InputError."""
    place, equals, value = text.partition("=")
    table, _, rest = place.partition(".")
    name, _, key = rest.rpartition(".") if table in NAMED else ("", "", rest)
    if not equals or not key or bool(name) is not (table in NAMED) or table not in Settings.model_fields:
        raise InputError(f"{text!r}: write it as connector.beacon.sessions=5 or retry.waits=1m,5m", usage=True)
    assignment = parse_assignment(model_of(table), f"{key}={value}")
    if name:
        block = document.find(table, name)
        if block is None:
            names = [str(document.values(item).get("name", "")) for item in document.blocks(table)]
            raise unknown_name(name, names, table)
    else:
        block = next(iter(document.blocks(table)), None)
    present = document.values(block) if block is not None else {}
    document.set(table, name or None, assignment[0], apply_assignments(present, assignment))


def _demand(loaded: Loaded, name: str) -> None:
    names = [connector.name for connector in loaded.settings.connector]
    if name not in names:
        raise unknown_name(name, names, "connector")


def unknown_name(name: str, names: Sequence[str], kind: str) -> InputError:
    """The error for a name that is not there, with those that are."""
    near = difflib.get_close_matches(name, names, 1)
    hint = f"did you mean {near[0]}?" if near else f"there are {', '.join(names)}" if names else "there is none"
    return InputError(f"there is no {kind} {name!r}; {hint}", usage=True)


def _rehearsed(loaded: Loaded) -> Loaded:
    """Without what needs content, keys or the network: signatures, senders in the content, policies of next hops."""
    plain = {"sign": False, "sender": "", "policy": "off", "credential": None}
    connectors: list[Connector] = [connector.model_copy(update=plain) for connector in loaded.settings.connector]
    settings = loaded.settings.model_copy(update={"connector": connectors, "signing": []})
    return Loaded(loaded.path, settings, loaded.server_name, loaded.data, {}, loaded.source)
