"""Every engine of the store that the tests of its contract run against."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from copper_kite.store import (
    Store,
    StorePlace,
    Writer,
    open_store,
)
from tests.store.turns import Turns


@pytest.fixture(params=["sqlite", "postgres"])
def store(request: pytest.FixtureRequest, folder: Path) -> Store:
    url = "" if request.param == "sqlite" else request.getfixturevalue("store_url")
    made = open_store(StorePlace(folder / "queue", url, server="quay1.ternferries.example"))
    made.upgrade()
    return made


@pytest.fixture
def turns() -> Turns:
    return Turns()


@pytest.fixture
def writer(store: Store, turns: Turns) -> Iterator[Writer]:
    writer = turns.start(store)
    yield writer
    writer.close()
