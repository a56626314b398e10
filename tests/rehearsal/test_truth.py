"""A rehearsal against the real server: the same messages, a stand-in, and a clock that jumps."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.rehearsal.truth import SCENES, Scene, compare

pytestmark = pytest.mark.data_folder  # the loop's clock stands still for the process that writes, and for no other


@pytest.mark.parametrize("scene", SCENES, ids=["outage", "refusal", "allowance"])
def test_a_rehearsal_comes_to_what_the_server_comes_to(scene: Scene, tmp_path: Path) -> None:
    real, rehearsed = compare(scene, tmp_path, 1)
    assert rehearsed.states == real.states
    assert rehearsed.empty_after == pytest.approx(real.empty_after, rel=0.1)
    for percent in (50, 90, 95, 99):
        assert rehearsed.delay(percent) == pytest.approx(real.delay(percent), rel=0.1)
    assert rehearsed.notices == pytest.approx(real.notices, rel=0.1)
