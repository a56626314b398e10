"""The process that answers monitoring programs, and how the server keeps it."""

from __future__ import annotations

import asyncio
import json
import os
import signal
import socket
import threading
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import pytest
from prometheus_client.parser import text_string_to_metric_families

from copper_kite.errors import ListenFailed
from copper_kite.monitoring import server as monitoring_server
from copper_kite.monitoring.server import MonitoringServer, Source
from copper_kite.net.authority import CertificateFiles
from copper_kite.relay import monitoring_process
from copper_kite.settings.load import load_configuration
from copper_kite.store import open_store
from tests.looping import happens
from tests.relay.test_relay import letter, talk
from tests.support import converse, free_port, site, write_site


async def asked(port: int, path: str, *headers: str) -> tuple[int, str]:
    """The status and the body of an answer."""
    words = "\r\n".join((f"GET {path} HTTP/1.1", "Host: x", *headers, "", ""))
    head, _, body = (await converse(port, words.encode())).partition(b"\r\n\r\n")
    return int(head.split()[1]), body.decode()


def bound(port: int, **more: str) -> str:
    return "".join([f'[metrics]\nbind = "127.0.0.1:{port}"\n', *(f"{key} = {value}\n" for key, value in more.items())])


async def test_a_server_answers_with_what_it_relayed(folder: Path, authority: CertificateFiles) -> None:
    port = free_port()
    async with site(folder, authority, extra=bound(port)) as here:
        await converse(here.port, talk(letter("ana@passenger.example")))
        await here.until_caught(1)
        await here.until(lambda reader: not reader.summary().messages)
        status, text = await asked(port, "/metrics")
        samples = {(sample.name, *sample.labels.values()): sample.value for metric in text_string_to_metric_families(text)
                   for sample in metric.samples}  # fmt: skip
        assert status == 200 and samples["kite_recipients_total", "beacon", "relayed"] == 1
        status, text = await asked(port, "/health")
        assert (status, json.loads(text)) == (200, {"healthy": True, "reasons": []})
        assert (await asked(port, "/live"))[0] == 200
        assert (await asked(port, "/else"))[0] == 404
    with pytest.raises(ConnectionRefusedError):
        await asked(port, "/live")


async def test_the_address_changes_on_reload_or_all_stays_as_it_was(folder: Path, authority: CertificateFiles) -> None:
    first, second = free_port(), free_port()
    async with site(folder, authority, extra=bound(first)) as here:
        path, text = here.loaded.path, here.loaded.source
        path.write_text(text.replace(f":{first}", f":{second}"))
        await here.service.reload(load_configuration(path))
        assert (await asked(second, "/live"))[0] == 200
        with pytest.raises(ConnectionRefusedError):
            await asked(first, "/live")
        with socket.create_server(("127.0.0.1", 0)) as other:
            path.write_text(text.replace(f":{first}", f":{other.getsockname()[1]}"))
            with pytest.raises(ListenFailed):
                await here.service.reload(load_configuration(path))
        assert (await asked(second, "/live"))[0] == 200
        path.write_text(text.partition("[metrics]")[0])
        await here.service.reload(load_configuration(path))
        with pytest.raises(ConnectionRefusedError):
            await asked(second, "/live")


async def test_a_process_that_dies_is_replaced(
    folder: Path, authority: CertificateFiles, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(monitoring_process, "HEARTBEAT_SECONDS", 0.01)
    monkeypatch.setattr(monitoring_process, "RESTART_SECONDS", 0.0)
    port = free_port()
    async with site(folder, authority, extra=bound(port)) as here:
        first = here.service.monitoring.process.pid
        assert first is not None
        os.kill(first, signal.SIGKILL)
        await happens(lambda: here.service.monitoring.process.pid != first)
        assert (await asked(port, "/live"))[0] == 200


async def test_a_unix_socket_answers_and_goes(folder: Path, authority: CertificateFiles) -> None:
    path = folder / "metrics.sock"
    async with site(folder, authority, extra=f'[metrics]\nbind = "unix:{path}"\n'):
        reader, writer = await asyncio.open_unix_connection(str(path))
        writer.write(b"GET /live HTTP/1.0\r\n\r\n")
        assert b" 200 " in await reader.readline()
        writer.close()
    assert not path.exists()


@pytest.fixture
def source(folder: Path) -> Source:
    loaded = load_configuration(write_site(folder, 2525, tls="off", extra='[metrics]\nbind = "127.0.0.1:1"\n'))
    open_store(loaded.store).upgrade()
    return Source(loaded)


@pytest.fixture
def port(source: Source) -> Iterator[int]:
    """Of a server in this process."""
    server = MonitoringServer(socket.create_server(("127.0.0.1", 0)), source)
    thread = threading.Thread(target=server.serve_forever, args=[0.01])
    thread.start()
    yield server.socket.getsockname()[1]
    server.shutdown()
    thread.join()
    server.server_close()


async def test_others_than_the_allowed_get_nothing(source: Source, port: int) -> None:
    settings = source.loaded.settings
    nobody = settings.metrics.model_copy(update={"allow": []})
    source.loaded = replace(source.loaded, settings=settings.model_copy(update={"metrics": nobody}))
    assert (await asked(port, "/metrics"))[0] == 403


@pytest.mark.data_folder
async def test_a_loop_that_stands_still_is_not_live(source: Source, port: int) -> None:
    source.last_heartbeat -= 100.0
    assert (await asked(port, "/live"))[0] == 503
    status, text = await asked(port, "/health")
    assert status == 503 and [item["reason"] for item in json.loads(text)["reasons"]] == ["held up", "stopped"]


@pytest.mark.data_folder
async def test_a_queue_that_cannot_be_read_is_told(source: Source, port: int) -> None:
    for file in source.loaded.data.glob("queue.sqlite*"):
        file.unlink()
    assert (await asked(port, "/metrics"))[0] == 503
    status, text = await asked(port, "/health")
    assert status == 503 and json.loads(text)["reasons"][0]["reason"] == "queue"


async def test_clients_that_say_nothing_are_cut_off_and_then_others_get_in(
    source: Source, port: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(monitoring_server, "REQUEST_SECONDS", 0.05)
    unresponsive = [
        await asyncio.open_connection("127.0.0.1", port) for _ in range(3 * monitoring_server.MOST_REQUESTS)
    ]
    for reader, writer in unresponsive:
        assert await reader.read() == b""
        writer.close()
    assert (await asked(port, "/live"))[0] == 200
