"""Two servers and a stand-in behind each other, each with a log of its own form. For a test, and docs/line-maps.md."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from tests.causes import TERN, Local
from tests.configuration import connector, site_text, table
from tests.looping import happens_elsewhere
from tests.support import environment, free_port, running

__all__ = ["send_through", "three_hosts"]

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


def _server(name: str, listener: str, bind: str, to: tuple[str, int], form: str) -> str:
    """A server that hands on to the connector and port `to`, with a log of its own."""
    return site_text(
        connector(to[0], f"127.0.0.1:{to[1]}", tls="off"),
        table("[log]", to=f"file:{name}.log", format=form, level="info"),
        table("[retry]", waits=["1s"]),
        bind=bind,
        name=f"{name}.ternferries.example",
        listener={"name": listener},
    )


@contextmanager
def three_hosts(folder: Path) -> Iterator[Path]:
    """Yields the configuration of the first, which names the logs of the others."""
    hop, second = free_port(), free_port()
    for name in ("quay1", "quay2"):
        (folder / name).mkdir()
    first = folder / "quay1" / "kite.toml"
    first.write_text(_server("quay1", "programs", f"unix:{folder}/submit.sock", ("quay2", second), "json") + OTHERS)
    beyond = _server("quay2", "hosts", f"127.0.0.1:{second}", ("beacon", hop), "rfc5424")
    (folder / "quay2" / "kite.toml").write_text(beyond)
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
    happens_elsewhere(lambda: recipient in (folder / "catch.log").read_text())
    return id
