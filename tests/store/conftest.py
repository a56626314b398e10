"""Every engine of the store that the tests of its contract run against."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from copper_kite.store import (
    Store,
    Writer,
    open_store,
)
from tests.store.turns import Turns

ENGINES = {"sqlite": open_store}


@pytest.fixture(params=ENGINES)
def store(request: pytest.FixtureRequest, folder: Path) -> Store:
    made = ENGINES[request.param](folder / "queue")
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
