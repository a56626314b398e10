from __future__ import annotations

import asyncio
import inspect
from pathlib import Path

import pytest

from copper_kite.net.authority import CertificateFiles, make_authority
from tests.looping import WatchingLoop


@pytest.fixture(scope="session")
def authority(tmp_path_factory: pytest.TempPathFactory) -> CertificateFiles:
    """A certificate for localhost from an authority of its own."""
    return make_authority(tmp_path_factory.mktemp("authority"), ["localhost", "127.0.0.1"])


@pytest.fixture(scope="session")
def stranger(tmp_path_factory: pytest.TempPathFactory) -> CertificateFiles:
    """The same from another authority, which nobody trusts."""
    return make_authority(tmp_path_factory.mktemp("stranger"), ["localhost"])


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
