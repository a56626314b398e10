"""`kite fleet` on two servers, each behind an sshd of its own on loopback, with keys of the test."""

from __future__ import annotations

import getpass
import json
import os
import shutil
import subprocess
import sys
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path

import pytest

from tests.configuration import connector, site_text
from tests.support import environment, free_port, kite, running

SSHD = shutil.which("sshd") or shutil.which("sshd", path="/usr/sbin:/sbin")
pytestmark = pytest.mark.skipif(SSHD is None, reason="needs Debian's openssh-server")


def _key(file: Path) -> str:
    subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(file)], check=True)
    return file.with_suffix(".pub").read_text()


@contextmanager
def sshd(folder: Path, authorized: str) -> Iterator[tuple[int, str]]:
    """An sshd; its port, and its line of known hosts."""
    folder.mkdir()
    port, host_key = free_port(), _key(folder / "host")
    (folder / "authorized").write_text(authorized)
    (folder / "authorized").chmod(0o600)
    (folder / "sshd_config").write_text(
        f"Port {port}\nListenAddress 127.0.0.1\nHostKey {folder}/host\nPidFile none\nAuthorizedKeysFile {folder}/authorized\n"
        f"StrictModes no\nUsePAM no\nPasswordAuthentication no\nPermitRootLogin prohibit-password\n"
    )
    Path("/run/sshd").mkdir(exist_ok=True)
    process = subprocess.Popen([str(SSHD), "-D", "-e", "-f", str(folder / "sshd_config")], stderr=subprocess.PIPE)
    assert process.stderr is not None
    for line in process.stderr:
        if b"listening on" in line:
            break
    try:
        yield port, f"[127.0.0.1]:{port} {' '.join(host_key.split()[:2])}\n"
    finally:
        process.terminate()
        process.wait()


class FleetHere:
    """Two servers, `quay1` and `quay2`, and the file that names them."""

    def __init__(self, folder: Path, ports: list[int]) -> None:
        self.folder = folder
        self.configs = [folder / name / "kite.toml" for name in ("quay1", "quay2")]
        self.ports = ports
        wrapper = folder / "kite"
        wrapper.write_text(
            f'#!/bin/sh\nPYTHONPATH="{os.pathsep.join(sys.path)}" exec {sys.executable} -m copper_kite "$@"\n'
        )
        wrapper.chmod(0o755)
        self.file = folder / "fleet.toml"
        options = ["-F", "none", "-i", f"{folder}/client", "-o", f"UserKnownHostsFile={folder}/known"]
        servers = "".join(
            f'[[server]]\nname = "{config.parent.name}"\naddress = "ssh://{getpass.getuser()}@127.0.0.1:{port}"\n'
            f'config = "{config}"\ncommand = "{wrapper}"\n'
            for config, port in zip(self.configs, ports, strict=True)
        )
        self.file.write_text(f"ssh = {json.dumps(options)}\n{servers}")

    def run(self, *words: object, stdin: bytes = b"") -> subprocess.CompletedProcess[bytes]:
        return kite("fleet", "--fleet", self.file, *words, stdin=stdin)


@pytest.fixture
def servers(folder: Path) -> Iterator[FleetHere]:
    with ExitStack() as stack:
        client = _key(folder / "client")
        started = [stack.enter_context(sshd(folder / f"sshd{number}", client)) for number in (1, 2)]
        (folder / "known").write_text("".join(line for _, line in started))
        here = FleetHere(folder, [port for port, _ in started])
        hop = free_port()  # quay1 hands over to quay2, and that to a port where nobody is
        for config, port, name in ((here.configs[0], free_port(), "quay1"), (here.configs[1], hop, "quay2")):
            config.parent.mkdir()
            to = f"127.0.0.1:{hop}" if name == "quay1" else f"127.0.0.1:{free_port()}"
            config.write_text(site_text(
                connector("beacon", to, tls="off"), identity={"recipients": {"root": "duty@crew.example"}}, name=f"{name}.ternferries.example",
                bind=[f"127.0.0.1:{port}", f"unix:{config.parent}/submit.sock"],
            ))  # fmt: skip
        yield here


@pytest.mark.data_folder
def test_each_command_gives_one_answer_from_all(servers: FleetHere) -> None:
    with running(servers.configs[0]), running(servers.configs[1]):
        letter = b"From: a@ternferries.example\nMessage-ID: <one@ternferries.example>\nSubject: s\n\nx\n"
        assert kite("pipe", "duty@crew.example", stdin=letter, config=servers.configs[0]).returncode == 0
        for _ in range(100):
            waiting = json.loads(kite("queue", "list", "--json", config=servers.configs[1]).stdout)
            if waiting and waiting[0]["state"] == "delayed":
                break
        status = servers.run("status")
        assert b"quay1" in status.stdout
        assert b"quay2" in status.stdout
        assert status.returncode == 1, "quay2 cannot hand over"
        queue = servers.run("queue")
        assert queue.returncode == 0
        assert b"quay2 1" in queue.stdout
        traced = servers.run("trace", "<one@ternferries.example>")
        assert traced.returncode == 0, traced.stderr
        places = [traced.stdout.index(name) for name in (b"quay1:", b"quay2, from quay1:")]
        assert places == sorted(places)
        report = servers.run("report", "--json")
        assert [item["answer"]["totals"]["accepted"] for item in json.loads(report.stdout)] == [1, 1]
        assert b"all " in servers.run("report").stdout
        assert servers.run("trace", "nobody@nowhere.example").returncode == 1
    assert servers.run("check").returncode == 0
    audited = servers.run("audit")
    assert audited.returncode == 1
    assert b"quay1, quay2" in audited.stdout


def test_who_cannot_be_reached_is_told_and_the_others_answer(servers: FleetHere) -> None:
    text = servers.file.read_text()
    servers.file.write_text(text.replace(f":{servers.ports[1]}", f":{free_port()}"))
    refused = servers.run("check")
    assert refused.returncode == 4
    assert b"Connection refused" in refused.stdout
    assert b"no problems found" in refused.stdout
    (servers.folder / "known").write_text("")  # whoever answers there may be somebody else
    servers.file.write_text(text)
    strange = servers.run("--only", "quay1", "check", "--json")
    assert strange.returncode == 4
    assert "Host key verification failed" in json.loads(strange.stdout)[0]["problem"]
    servers.file.write_text(text.replace(str(servers.folder / "kite"), "/nowhere/kite"))
    assert servers.run("--only", "quay3", "check").returncode == 2


def test_configurations_are_compared_and_pushed(servers: FleetHere) -> None:
    assert b"differ" not in servers.run("compare").stdout
    export = servers.folder / "export.toml"
    port = free_port()
    export.write_text(
        f'[retry]\nlifetime = "3d"\n[[connector]]\nname = "beacon"\nhosts = ["127.0.0.1:{port}"]\ntls = "off"\n'
    )
    stand_in = subprocess.Popen([sys.executable, "-m", "copper_kite", "catch", f"127.0.0.1:{port}", "--tls", "off"],
                                cwd=servers.folder, stderr=subprocess.PIPE, env=environment())  # fmt: skip
    try:
        assert stand_in.stderr is not None
        stand_in.stderr.readline()
        pushed = servers.run("config", "push", export, "--yes")
    finally:
        stand_in.kill()
        stand_in.wait()
    assert pushed.returncode == 0, pushed.stdout + pushed.stderr
    assert all('lifetime = "3d"' in config.read_text() for config in servers.configs)
    assert [config.read_text().count("quay") for config in servers.configs] >= [1, 1], "each keeps its own name"
    assert servers.run("compare").returncode == 0
    export.write_text(f'[[connector]]\nname = "beacon"\nhosts = ["127.0.0.1:{free_port()}"]\ntls = "off"\n')
    failed = servers.run("config", "push", export, "--yes")
    assert failed.returncode == 1
    assert failed.stdout.count(b"restored") == 2
    assert all(f"127.0.0.1:{port}" in config.read_text() for config in servers.configs)
    wrong = servers.run("config", "push", "-", "--yes", stdin=b'[retry]\nlifetme = "3d"\n')
    assert wrong.returncode == 1
    assert b"nothing was changed anywhere" in wrong.stdout
