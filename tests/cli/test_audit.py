"""`kite audit`: what is weak is found, each cure works as it is printed, and what is meant can be accepted."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

from copper_kite.posture import RISKS
from tests.support import environment, kite
from tests.weak import write_weak


def found(config: Path, *words: str) -> dict[str, list[dict[str, object]]]:
    done = kite("audit", "--json", *words, config=config)
    return dict(json.loads(done.stdout))


def test_each_weakness_has_a_cure_that_works_as_it_is_printed(folder: Path) -> None:
    config = write_weak(folder)
    weak = found(config)["open"]
    assert len(weak) >= 25
    assert {item["harm"] for item in weak} <= {*RISKS.values()}
    (folder / "bin").mkdir()
    (folder / "bin" / "kite").write_text(f'#!/bin/sh\nexec {sys.executable} -m copper_kite "$@"\n')
    (folder / "bin" / "kite").chmod(0o755)
    path = {"PATH": f"{folder / 'bin'}:{os.environ['PATH']}"}
    for item in weak:
        done = subprocess.run(
            str(item["cure"]),
            shell=True,
            cwd=folder,
            env=environment(**path),
            input=b"new-and-long\nnew-and-long\n",
            capture_output=True,
        )
        assert done.returncode == 0, (item, done.stdout + done.stderr)
        with (folder / "trial.zone").open("ab") as zone:  # what is to be published is
            zone.writelines(line + b"\n" for line in done.stdout.splitlines() if b". IN TXT " in line)
    left = found(config)
    assert [(item["risk"], item["of"]) for item in left["open"]] == []
    assert {item["risk"] for item in left["accepted"]} == {"one-host"}
    assert kite("audit", config=config).returncode == 0


def test_what_is_safe_is_cured_at_once_and_the_rest_stays(folder: Path) -> None:
    config = write_weak(folder)
    before = found(config, "--offline")["open"]
    done = kite("audit", "--fix", "--yes", "--offline", config=config)
    assert done.returncode == 1
    after = {(item["risk"], item["of"]) for item in found(config, "--offline")["open"]}
    assert after == {(item["risk"], item["of"]) for item in before if not item["safe"]}
    assert b"no-guard: done" in done.stdout


def test_what_is_meant_is_accepted_with_a_reason(folder: Path) -> None:
    config = write_weak(folder)
    assert (
        kite("audit", "accept", "any-sender", "ticketing", "--reason", "it sends for all", config=config).returncode
        == 0
    )
    assert kite("audit", "accept", "one-host", "--reason", "so be it", config=config).returncode == 0
    audited = found(config, "--offline")
    assert {(item["risk"], item["reason"]) for item in audited["accepted"]} == {
        ("any-sender", "it sends for all"),
        ("one-host", "so be it"),
    }
    assert not {"one-host", "any-sender"} & {str(item["risk"]) for item in audited["open"]}
    wrong = kite("audit", "accept", "one-hots", "--reason", "x", config=config)
    assert wrong.returncode == 2
    assert b"did you mean 'one-host'" in wrong.stderr
