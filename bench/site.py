"""A server under measurement, and the programs around it."""

from __future__ import annotations

import os
import socket
import subprocess
import sys
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path

from copper_kite.demo.ports import free_port

__all__ = ["configure", "free_port", "program", "swallowing"]


served_from: str | None = None  # the folder of the code that serves, where it is not this one (see `bench.turns`)


@contextmanager
def program(*words: str, ready: bytes = b"ready") -> Iterator[subprocess.Popen[bytes]]:
    """A process that has said it is ready; ended at the end."""
    environment = {**os.environ, "PYTHONPATH": served_from} if served_from and words[0] == "copper_kite" else None
    process = subprocess.Popen(
        [sys.executable, "-m", *words], stdout=subprocess.PIPE, stderr=subprocess.STDOUT, env=environment
    )
    assert process.stdout is not None
    said = []
    for line in process.stdout:
        said.append(line)
        if ready in line:
            break
    else:
        raise SystemExit(b"".join(said).decode())
    try:
        yield process
    finally:
        process.terminate()
        process.wait()
        process.stdout.close()


def configure(folder: Path, port: int, hop: int, extra: str = "", listener: str = "", store: str = "") -> Path:
    """A configuration with one listener, and one connector with TLS and a login; `extra` and `listener` are more of
    each. The queue is in the database `store`, where that is given."""
    (folder / "credentials.toml").touch(mode=0o600)
    (folder / "credentials.toml").write_text('[sink]\nlogin = "bench"\npassword = "made-up"\n')
    config = folder / "kite.toml"
    config.write_text(
        f'[server]\nname = "quay1.ternferries.example"\ndata = "queue"\nstore = "{store}"\n'
        f'[[listener]]\nname = "programs"\nbind = ["127.0.0.1:{port}"]\nmax_size = "200MiB"\n{listener}'
        f'[[connector]]\nname = "sink"\nhosts = ["localhost:{hop}"]\ntls = "implicit"\ntrust = "ca.pem"\n'
        f'credential = "sink"\nsessions = 20\n{extra}'
    )
    return config


@contextmanager
def swallowing() -> Iterator[str]:
    """The address of a host that swallows packets: it listens, and its backlog is full."""
    with socket.socket() as one, ExitStack() as stack:
        one.bind(("127.0.0.2", 0))
        one.listen(0)
        for _ in range(3):
            other = stack.enter_context(socket.socket())
            other.setblocking(False)
            other.connect_ex(one.getsockname())
        yield f"127.0.0.2:{one.getsockname()[1]}"
