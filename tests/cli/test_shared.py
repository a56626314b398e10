"""The commands on a queue that several servers share, and the server when it loses its part of it."""

from __future__ import annotations

import json
import re
import socket
from pathlib import Path

import pytest

from copper_kite.demo import database as database_module
from copper_kite.demo.database import DatabaseServer, NoDatabase
from copper_kite.store import parse_store_url
from tests.configuration import connector, site_text
from tests.support import free_port, kite, running, until


def config_of(folder: Path, url: str, name: str = "quay1") -> Path:
    """A server whose way out is shut."""
    (folder / name).mkdir()
    config = folder / name / "kite.toml"
    bind = [f"127.0.0.1:{free_port()}", f"unix:{folder}/{name}/submit.sock"]
    to = connector("beacon", f"127.0.0.1:{free_port()}", tls="off")
    config.write_text(site_text(to, bind=bind, name=f"{name}.ternferries.example", server={"store": url}))
    return config


def test_a_server_that_was_fenced_begins_again(folder: Path, store_url: str, database: DatabaseServer) -> None:
    config = config_of(folder, store_url)
    user = parse_store_url(store_url).user
    with running(config) as process:
        database.sql(f"UPDATE {user}.server SET epoch = epoch + 1")
        assert process.stderr is not None
        said = b""
        while b"is serving; the queue is in kite at" not in said:
            said += next(process.stderr)
        assert b"another server has taken over the mail of quay1.ternferries.example" in said
        assert b"others have taken over the mail of this server: it begins again" in said
        assert kite("pipe", "a@crew.example", stdin=b"Subject: s\n\nx\n", config=config).returncode == 0
        until(config, {"a@crew.example": "delayed"})


def test_every_command_works_from_elsewhere_and_orders_arrive(folder: Path, store_url: str) -> None:
    """From a machine that has the configuration, and serves nothing."""
    config, elsewhere = config_of(folder, store_url), config_of(folder, store_url, "desk")
    with running(config) as process:
        assert kite("pipe", "a@crew.example", stdin=b"Subject: s\n\nx\n", config=config).returncode == 0
        until(elsewhere, {"a@crew.example": "delayed"})
        done = kite("queue", "park", "--to", "crew.example", "--yes", config=elsewhere)
        assert b"1 recipient of 1 message: done" in done.stdout
        status = json.loads(kite("status", "--json", config=elsewhere).stdout)
        assert [(statu["name"], statu["alive"]) for statu in status["servers"]] == [("quay1.ternferries.example", True)]
        assert b"quay1.ternferries.example: alive since" in kite("status", config=elsewhere).stdout
        result = json.loads(kite("log", "search", "--json", "a@crew.example", config=elsewhere).stdout)
        assert {entry["host"] for entry in result} == {"quay1.ternferries.example"}
        process.terminate()
        assert process.wait(20) == 0
    done = kite("queue", "release", "--to", "crew.example", "--yes", config=elsewhere)
    assert b"noted; no server runs now, and the next one that starts does it" in done.stdout
    with running(config):
        until(elsewhere, {"a@crew.example": "delayed"})


def test_a_queue_is_moved_and_the_command_says_what_comes_next(folder: Path, store_url: str) -> None:
    config = config_of(folder, "")
    with running(config):
        assert kite("pipe", "a@crew.example", stdin=b"Subject: s\n\nx\n", config=config).returncode == 0
        refused = kite("queue", "move", "--to-store", store_url, config=config)
        assert refused.returncode == 3 and b"already served by process" in refused.stderr
    done = kite("queue", "move", "--to-store", store_url, config=config)
    assert b"1 message moved from" in done.stdout and b"[server] store =" in done.stdout
    assert kite("queue", "list", config=config).stdout.startswith(b"Nothing") or b"a@crew" not in done.stdout
    config.write_text(config.read_text().replace('store = ""', f'store = "{store_url}"'))
    assert b"a@crew.example" in kite("queue", "list", config=config).stdout
    back = kite("queue", "move", "--to-folder", config=config)
    assert b"1 message moved from kite at" in back.stdout and b"take [server] store out" in back.stdout
    for words in ([], ["--to-folder", "--to-store"]):
        assert kite("queue", "move", *words, config=config).returncode == 2
    assert kite("queue", "move", "--to-store", "mysql://x", config=config).returncode == 1


def test_a_database_that_is_not_there_is_told_by_check_and_serve(folder: Path) -> None:
    with socket.create_server(("127.0.0.1", 0)) as silent:
        url = f"postgresql://kite@127.0.0.1:{silent.getsockname()[1]}/kite"
    config = config_of(folder, url)
    checked = kite("check", config=config)
    assert checked.returncode == 1 and b"the database cannot be used" in checked.stdout
    status = kite("status", config=config)
    assert status.returncode == 1 and b"the database cannot be used" in status.stdout
    served = kite("serve", config=config)
    assert served.returncode == 3 and b"connection refused" in served.stderr.lower()
    config.write_text(config.read_text().replace("kite@127", "kite:secret@127"))
    checked = kite("check", config=config)
    assert b"a password does not belong here" in checked.stdout + checked.stderr


def test_the_demo_of_several_servers_loses_nothing(folder: Path, database: DatabaseServer) -> None:
    done = kite("demo", "--servers", "2", "--seconds", "3", "--folder", folder / "demo")
    assert done.returncode == 0, done.stderr
    text = done.stdout.decode()
    assert re.search(r"\d\d+ messages acknowledged, 0 lost, [0-4] extra cop", text), text
    assert "A message that the killed server had accepted" in text and "quay2" in text


def test_where_postgresql_is_not_installed_the_demo_says_so(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(database_module, "PROGRAMS", ("initdb-of-nobody",))
    with pytest.raises(NoDatabase, match="apt install postgresql"):
        DatabaseServer(folder)
