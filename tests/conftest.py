from __future__ import annotations

import asyncio
import inspect
import os
from collections.abc import Iterator
from pathlib import Path

import pytest

from copper_kite.demo.database import DatabaseServer
from copper_kite.net.authority import CertificateFiles, make_authority
from tests.configuration import shared_store
from tests.database_server import database_server, new_user, remove_user
from tests.looping import WatchingLoop

IN_DATABASE = os.environ.get("KITE_TEST_STORE") == "postgres"


@pytest.fixture(scope="session")
def authority(tmp_path_factory: pytest.TempPathFactory) -> CertificateFiles:
    """A certificate for localhost from an authority of its own."""
    return make_authority(tmp_path_factory.mktemp("authority"), ["localhost", "127.0.0.1"])


@pytest.fixture(scope="session")
def stranger(tmp_path_factory: pytest.TempPathFactory) -> CertificateFiles:
    """The same from another authority, which nobody trusts."""
    return make_authority(tmp_path_factory.mktemp("stranger"), ["localhost"])


@pytest.fixture(scope="session")
def database() -> Iterator[DatabaseServer]:
    """A PostgreSQL server; the test is skipped where it is not installed."""
    with database_server() as server:
        yield server


@pytest.fixture
def store_url(database: DatabaseServer) -> Iterator[str]:
    """A schema of its own in it."""
    user = new_user()
    yield database.add_user(user)
    remove_user(database, user)


@pytest.fixture(autouse=IN_DATABASE)
def _shared_store(store_url: str) -> Iterator[None]:
    """With KITE_TEST_STORE=postgres, every server of the tests has its queue in a database."""
    shared_store.append(store_url)
    yield
    shared_store.pop()


def pytest_runtest_setup(item: pytest.Item) -> None:
    if IN_DATABASE and item.get_closest_marker("data_folder") is not None:
        pytest.skip("about files of a data folder")


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    return tmp_path


@pytest.hookimpl(tryfirst=True)
def pytest_pyfunc_call(pyfuncitem: pytest.Function) -> bool | None:
    """A test that is a coroutine runs in a loop of its own."""
    if not inspect.iscoroutinefunction(pyfuncitem.obj):
        return None
    arguments = {name: pyfuncitem.funcargs[name] for name in inspect.signature(pyfuncitem.obj).parameters}
    with asyncio.Runner(loop_factory=WatchingLoop) as runner:
        runner.run(pyfuncitem.obj(**arguments))
    return True
