"""Two servers and a stand-in behind each other, each with a log of its own form. For a test, and docs/line-maps.md."""

from __future__ import annotations

import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from tests.causes import TERN, Local
from tests.support import environment, free_port, running

__all__ = ["send_through", "three_hosts"]

SERVER = """\
[server]
name = "{name}.ternferries.example"
data = "queue"

[[listener]]
name = "{listener}"
bind = {bind}

[[connector]]
name = "{connector}"
hosts = ["127.0.0.1:{hop}"]
tls = "off"

[log]
to = "file:{name}.log"
format = "{form}"
level = "info"

[retry]
waits = ["1s"]
"""
OTHERS = """
[[other_log]]
name = "quay2"
files = ["../quay2/quay2.log*"]

[[other_log]]
name = "beacon"
files = ["../catch.log"]
"""
BEHAVIOUR = """\
[[rule]]
stage = "recipient"
recipient = "pier@crew.example"
turns = "1"
answer = "450 4.2.1 the mailbox is being moved; try again later"
"""


@contextmanager
def three_hosts(folder: Path) -> Iterator[Path]:
    """Yields the configuration of the first, which names the logs of the others."""
    hop, second = free_port(), free_port()
    for name in ("quay1", "quay2"):
        (folder / name).mkdir()
    first = folder / "quay1" / "kite.toml"
    bind = f'["unix:{folder}/submit.sock"]'
    facts = {"name": "quay1", "listener": "programs", "bind": bind, "connector": "quay2", "hop": second}
    first.write_text(SERVER.format(**facts, form="json") + OTHERS)
    bind = f'["127.0.0.1:{second}"]'
    facts = {"name": "quay2", "listener": "hosts", "bind": bind, "connector": "beacon", "hop": hop}
    (folder / "quay2" / "kite.toml").write_text(SERVER.format(**facts, form="rfc5424"))
    (folder / "behave.toml").write_text(BEHAVIOUR)
    words = [f"127.0.0.1:{hop}", "--tls", "off", "--behave", "behave.toml", "--folder", "caught", "--json"]
    with (folder / "catch.log").open("wb") as log:
        command = [sys.executable, "-u", "-m", "copper_kite", "catch", *words]
        stand_in = subprocess.Popen(command, cwd=folder, stdout=log, stderr=subprocess.PIPE, env=environment())
        assert stand_in.stderr is not None and b"takes mail" in stand_in.stderr.readline()
        try:
            with running(first), running(folder / "quay2" / "kite.toml"):
                yield first
        finally:
            stand_in.kill()
            stand_in.wait()
            stand_in.stderr.close()


def send_through(folder: Path, recipient: str) -> str:
    """Hand a message in at the first; its id there, once the stand-in has it."""
    with Local(str(folder / "submit.sock"), 1, "programs") as client:
        client.ehlo_or_helo_if_needed()
        client.mail(f"rota@{TERN}")
        client.rcpt(recipient)
        content = f"Subject: Watches for tomorrow\r\nMessage-ID: <rota.7@{TERN}>\r\n\r\nx\r\n"
        id = client.data(content)[1].split()[-1].decode()
    until = time.monotonic() + 20
    while recipient not in (folder / "catch.log").read_text():
        assert time.monotonic() < until
        time.sleep(0.05)
    return id
