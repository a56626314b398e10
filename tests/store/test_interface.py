"""What the store shows to the rest of the house."""

from __future__ import annotations

import pytest

from copper_kite import store


def test_all_that_is_exported_is_there_and_nothing_else() -> None:
    assert len(store.__all__) == len(set(store.__all__)) > 30
    for name in store.__all__:
        assert getattr(store, name) is not None
    with pytest.raises(AttributeError, match="commit_all"):
        store.commit_all  # type: ignore[attr-defined]  # noqa: B018
