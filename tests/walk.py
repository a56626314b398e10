"""A new user's walk: a site with many smart hosts, each of which stops mail in its own way; every next command pasted."""

from __future__ import annotations

import re
import shlex
import socket
import subprocess
import sys
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import NamedTuple

from tests.causes import TERN, hand_in, secrets, settle
from tests.configuration import site_text, table
from tests.support import environment, free_port, running

__all__ = ["FAILURES", "Failure", "next_command", "paste", "walk"]

NEXT = re.compile(r"(?m)^  next.*\n    (\S.*)$")


class Failure(NamedTuple):
    """One way in which mail is stopped: the stand-in's options and behaviour, the connector's keys, the state that a
    message gets, and words of the verdict. `mends` says that the next command mends it."""

    name: str
    words: tuple[str, ...] = ()
    behaviour: str = ""
    keys: str = ""
    state: str = "delayed"
    says: str = ""
    mends: bool = False


OWN = 'credential = "keys"\ntrust = "{folder}/caught/tls/ca.pem"\n'
FAILURES = (
    Failure("failover", keys=OWN, state="relayed", says="has taken it over"),
    Failure("password", keys=OWN.replace("keys", "wrong"), says="refuses the login tern", mends=True),
    Failure("untrusted", keys='credential = "keys"\n', says="leads to nobody that is trusted here"),
    Failure("named", behaviour='[tls]\ncertificate = "wrong name"\n',
            keys='credential = "keys"\ntrust = "{folder}/caught/tls/wrong-name-ca.pem"\n', says="is not for the name"),
    Failure("closed", keys='tls = "off"\n', says="Nothing listens at"),
    Failure("filtered", keys='tls = "off"\n', state="queued", says="stage connect"),
    Failure("plain", words=("--tls", "off"), keys='credential = "keys"\n', says="does not offer STARTTLS"),
    Failure("kind", words=("--tls", "implicit"), keys=OWN, says="speaks TLS at once", mends=True),
    Failure("logins", behaviour='[offers]\nmechanisms = ["LOGIN"]\n', keys=OWN + 'mechanisms = ["SCRAM-SHA-256"]\n',
            says="offers no login that can be used here"),
    Failure("sender", behaviour='[[rule]]\nstage = "sender"\nanswer = "550 5.7.1 not a sender of this login"\n', keys=OWN,
            state="failed", says="does not let it send as"),
    Failure("recipient", behaviour='[[rule]]\nstage = "recipient"\nanswer = "550 5.1.1 no such mailbox"\n', keys=OWN,
            state="failed", says="There is no mailbox of"),
    Failure("greylisted", behaviour="put_off_first = true\n", keys=OWN, says="puts off senders that it does not know"),
    Failure("full", behaviour='[[rule]]\nstage = "recipient"\nanswer = "452 4.2.2 mailbox full"\n', keys=OWN, says="is full"),
)  # fmt: skip


@contextmanager
def walk(folder: Path) -> Iterator[tuple[Path, dict[str, str]]]:
    """The site with all of it at work; its configuration, and the id of the message that each failure stopped."""
    secrets(folder / "logins.toml", tern="quay-7")
    secrets(folder / "credentials.toml", keys="quay-7", wrong="quay-6")
    bind = [f"127.0.0.1:{free_port()}", f"unix:{folder}/submit.sock"]
    text = site_text(table("[retry]", waits=["1h"]), bind=bind)
    with ExitStack() as stack:
        for failure in FAILURES:
            hosts = _hosts(failure, folder, stack)
            keys = failure.keys.format(folder=folder / failure.name)
            text += f'[[connector]]\nname = "{failure.name}"\nrecipients = ["{failure.name}.example"]\n{hosts}{keys}'
        config = folder / "kite.toml"
        config.write_text(text)
        server = stack.enter_context(running(config))
        known = {failure.name: hand_in(config, f"ana@{failure.name}.example", f"rota@{TERN}") for failure in FAILURES}
        for failure in FAILURES:
            if failure.state != "queued":
                settle(config, known[failure.name], failure.state)
        try:
            yield config, known
        finally:
            if server.poll() is not None and server.stderr is not None:
                raise AssertionError(f"the server ended: {server.stderr.read().decode()}")


def _hosts(failure: Failure, folder: Path, stack: ExitStack) -> str:
    port = free_port()
    if failure.name == "filtered":  # nobody takes connections up
        full = stack.enter_context(socket.create_server(("127.0.0.1", 0), backlog=0))
        for _ in range(3):
            waiting = stack.enter_context(socket.socket())
            waiting.setblocking(False)
            waiting.connect_ex(full.getsockname())
        port = full.getsockname()[1]
    elif failure.name != "closed":
        stack.enter_context(_stand_in(folder / failure.name, port, failure))
    dead = f'"localhost:{free_port()}", ' if failure.name == "failover" else ""
    host = "127.0.0.1" if failure.name in ("closed", "filtered") else "localhost"
    return f'hosts = [{dead}"{host}:{port}"]\n'


@contextmanager
def _stand_in(folder: Path, port: int, failure: Failure) -> Iterator[None]:
    folder.mkdir()
    (folder / "behave.toml").write_text(failure.behaviour)
    words = [f"127.0.0.1:{port}", "--behave", folder / "behave.toml", "--folder", folder / "caught", *failure.words]
    words += [] if "off" in failure.words else ["--credentials", folder.parent / "logins.toml"]
    command = [sys.executable, "-m", "copper_kite", "catch", *map(str, words)]
    process = subprocess.Popen(command, stderr=subprocess.PIPE, stdout=subprocess.DEVNULL, env=environment())
    assert process.stderr is not None
    line = process.stderr.readline()
    assert b"takes mail" in line, line
    try:
        yield
    finally:
        process.kill()
        process.wait()
        process.stderr.close()


def next_command(shown: str) -> str | None:
    """The command that a verdict names, as it is printed; None where it names none."""
    result = NEXT.search(shown)
    return result[1] if result else None


def paste(command: str, typed: str = "") -> tuple[int, str]:
    """Run a command line as a shell does, `typed` at its questions: its exit status, and what it printed."""
    kite = shlex.join([sys.executable, "-m", "copper_kite"])
    script = f'kite() {{ {kite} "$@"; }}\n{command}\n'
    done = subprocess.run(
        ["/bin/sh", "-c", script],
        input=typed.encode(),
        capture_output=True,
        env=environment(),
        timeout=120,
        check=False,
    )
    return done.returncode, (done.stdout + done.stderr).decode()
