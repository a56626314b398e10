"""The server under systemd: its units, its protocols, the secrets that are handed over."""

from __future__ import annotations

import asyncio
import shutil
import signal
import socket
import subprocess
import sys
from collections.abc import Callable
from functools import partial
from pathlib import Path

import pytest

from copper_kite.net.authority import CertificateFiles
from copper_kite.session.standin import Caught
from tests.cli.test_commands import port_of, smart_host, take
from tests.support import SECONDS, environment, kite, running, write_site


async def test_secrets_that_a_manager_hands_over_come_from_it(folder: Path, authority: CertificateFiles) -> None:
    """What stands beside the configuration does not count then, and a change to it says what it needs."""

    async def hand_in(config: Path, caught: asyncio.Queue[Caught]) -> None:
        sent = await asyncio.to_thread(kite, "pipe", "a@passenger.example", stdin=b"x", config=config)
        assert sent.returncode == 0 and (await take(caught)).login == "tern"
        words = ("credential", "add", "beacon", "--login", "tern", "--password-stdin")
        changed = await asyncio.to_thread(kite, *words, stdin=b"other\n", config=config)
        assert b"systemctl restart" in changed.stdout, changed

    async with smart_host(folder, authority) as (hop, caught):
        config = write_site(folder, hop)
        given = folder / "given"
        given.mkdir()
        shutil.move(folder / "credentials.toml", given / "credentials.toml")
        with running(config, CREDENTIALS_DIRECTORY=str(given)):
            await hand_in(config, caught)


@pytest.mark.skipif(shutil.which("systemd-analyze") is None, reason="systemd's tools are not here")
@pytest.mark.parametrize("data", ["queue", "/var/lib/copper-kite"])
def test_the_unit_passes_the_manager_s_own_check(folder: Path, data: str) -> None:
    (folder / "ca.pem").write_text("")
    config = write_site(folder, 2525)
    config.write_text(config.read_text().replace('data = "queue"', f'data = "{data}"'))
    done = kite("service", "--install", "--folder", folder, "--share", folder / "share", config=config)
    assert done.returncode == 0 and (b"useradd" in done.stdout) == (data == "queue")
    units = [folder / "copper-kite.service", folder / "copper-kite.socket"]
    done = subprocess.run(["systemd-analyze", "verify", *units], capture_output=True, text=True, check=False)
    about = [line for line in done.stderr.splitlines() if "copper-kite" in line]
    assert done.returncode == 0 and not about, done.stderr


async def test_sockets_and_word_of_readiness_by_the_manager_s_protocol(
    folder: Path, authority: CertificateFiles
) -> None:

    def supervise(config: Path, arrive: Callable[[], object]) -> None:
        with (
            socket.create_server(("127.0.0.1", port_of(config))) as listening,
            socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as manager,
        ):
            manager.bind(str(folder / "notify"))
            manager.settimeout(SECONDS)
            script = (
                f"exec 3<&{listening.fileno()}; LISTEN_PID=$$ LISTEN_FDS=1 exec {sys.executable} -m copper_kite serve"
            )
            more = {"NOTIFY_SOCKET": str(folder / "notify"), "KITE_CONFIG": str(config), "WATCHDOG_USEC": "200000"}
            process = subprocess.Popen(
                ["bash", "-c", script],
                pass_fds=(listening.fileno(),),
                env=environment() | more,
                stderr=subprocess.DEVNULL,
            )

            def next_word() -> bytes:
                while (word := manager.recv(99)) == b"WATCHDOG=1":
                    alive.append(word)
                return word

            alive: list[bytes] = []
            assert next_word() == b"READY=1"
            process.send_signal(signal.SIGHUP)
            assert next_word().startswith(b"RELOADING=1\nMONOTONIC_USEC=") and next_word() == b"READY=1"
            assert kite("pipe", "a@passenger.example", stdin=b"x", config=config).returncode == 0
            arrive()
            while len(alive) < 2:
                assert manager.recv(99) == b"WATCHDOG=1"
                alive.append(b"")
            process.terminate()
            assert next_word() == b"STOPPING=1" and process.wait(SECONDS) == 0

    async with smart_host(folder, authority) as (hop, caught):
        config = write_site(folder, hop)
        loop = asyncio.get_running_loop()
        arrived = partial(asyncio.run_coroutine_threadsafe, loop=loop)
        await asyncio.to_thread(supervise, config, lambda: arrived(take(caught)).result(SECONDS))
