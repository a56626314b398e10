"""What shells complete, and how they come to."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

from copper_kite.store import AddMessage, IdMaker, Message, Recipient, id_text, open_store
from tests.configuration import store_of
from tests.support import environment, kite, write_site


def completed(config: Path, *words: str) -> list[str]:
    """What bash is given for the last of the words."""
    program = [sys.executable, "-m", "copper_kite"]
    asked = environment(
        KITE_CONFIG=str(config),
        _KITE_COMPLETE="bash_complete",
        COMP_WORDS=" ".join(("kite", *words)),
        COMP_CWORD=str(len(words)),
    )
    done = subprocess.run(program, env=asked, capture_output=True, check=False)
    return [line.partition(",")[2] for line in done.stdout.decode().split()]


def test_names_keys_and_ids_are_completed(folder: Path) -> None:
    config = write_site(folder, 2587, tls="off")
    id = IdMaker().next(1_800_000_000.0)
    message = Message(
        id, 1_800_000_000.0, 1_800_001_000.0, "a@x.example", 1, False, False, "<m>", "l", "", "h", "", "ESMTP"
    )
    store = open_store(store_of(folder / "queue"))
    store.upgrade()
    store.write([[AddMessage(message, [Recipient(id, 1, "b@y.example")], b"x")]])
    for words in (("trace", ""), ("queue", "show", id_text(id)[:5].lower()), ("queue", "park", "")):
        assert completed(config, *words) == [id_text(id)], words
    assert completed(config, "trace", "Z") == []
    assert completed(config, "connector", "show", "bea") == ["beacon"]
    assert completed(config, "connector", "set", "beacon", "priv") == []
    assert completed(config, "connector", "set", "beacon", "tl")[0] == "tls="
    assert completed(folder / "none.toml", "trace", "") == []


def test_the_shells_are_told(folder: Path) -> None:
    """Each finds its file where it looks by itself; that of bash is one that bash can read."""
    told = kite("service", "--completion", folder / "share")
    assert told.returncode == 0 and told.stdout.count(b" written\n") == 3
    of_bash = folder / "share/bash-completion/completions/kite"
    assert "_KITE_COMPLETE=bash_complete" in of_bash.read_text("utf-8")
    assert subprocess.run(["bash", "-n", of_bash], check=False).returncode == 0
    assert (folder / "share/zsh/site-functions/_kite").read_text("utf-8").startswith("#compdef kite")
    assert "_KITE_COMPLETE=fish_complete" in (folder / "share/fish/vendor_completions.d/kite.fish").read_text("utf-8")
    assert kite("service", "--completion", "/dev/null/share").returncode == 1
