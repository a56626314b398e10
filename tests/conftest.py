from __future__ import annotations

from pathlib import Path

import pytest

from copper_kite.net.authority import CertificateFiles, make_authority


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
