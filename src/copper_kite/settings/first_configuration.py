"""A first configuration: the text of the file from a few answers, commented where a choice was made."""

from __future__ import annotations

import socket
from dataclasses import dataclass
from pathlib import Path

from copper_kite.settings.edit import toml_value

__all__ = ["ALARMS", "Answers", "first_text", "own_name"]

SOCKET_SYSTEM, SOCKET_NAME = "/run/copper-kite/submit.sock", "submit.sock"


ALARMS: tuple[tuple[str, str, str | float | None], ...] = (
    ("failing", "connector_failing", "30m"),
    ("waiting", "oldest_waiting", "4h"),
    ("failures", "failed_share", 0.2),
    ("disk", "disk", "1GiB"),
    ("certificates", "certificate_expires", "14d"),
    ("surge", "surge", None),
)


@dataclass(slots=True, kw_only=True)
class Answers:
    """The answers that `kite init` needs. `login` empty for a smart host without one; `port` as chosen with `tls`."""

    name: str = ""
    domain: str = ""
    host: str = ""
    port: int = 587
    tls: str = "starttls"
    trust: str = "system"
    login: str = ""
    root: str = ""
    sender: str = ""  # for programs that have no address of their own
    data: str = "/var/lib/copper-kite"
    bind: tuple[str, ...] = ()
    why: str = ""  # of port and TLS


def own_name() -> str:
    """This server's full name as the system knows it; empty when it knows none."""
    for name in (socket.getfqdn(), socket.gethostname()):
        if "." in name and not name.startswith("localhost") and not name.endswith(".arpa"):
            return name.lower()
    return ""


def first_text(answers: Answers, *, alarms: bool = True) -> str:
    """The whole file; without its `alarms`, for a screen."""
    connector = toml_value(credential_name(answers.host))
    local = {"root": answers.root, "postmaster": answers.root}
    lines = [
        "# Made by `kite init`. `kite check` says what is wrong with it; every key is in docs/configuration.md.",
        "",
        "[server]",
        f"name = {toml_value(answers.name)}",
        f"data = {toml_value(answers.data)}   # the queue",
        "",
        "[identity]",
        f"domain = {toml_value(answers.domain)}   # completes bare names, such as root",
        *([f"recipients = {toml_value(local)}"] if answers.root else []),
        *([f"senders = {toml_value({'*': answers.sender})}   # of local names"] if answers.sender else []),
        "",
        "[[listener]]",
        'name = "programs"   # this machine only, since allow has its default',
        f"bind = {toml_value(list(answers.bind))}",
        "",
        "[[connector]]",
        f"name = {connector}",
        f"hosts = {toml_value([f'{answers.host}:{answers.port}'])}",
        f"tls = {toml_value(answers.tls)}   # {answers.why}",
        *([f"trust = {toml_value(answers.trust)}"] if answers.trust != "system" else []),
        *([f"credential = {connector}   # in credentials.toml"] if answers.login else []),
    ]
    return "\n".join([*lines, *(_alarms(answers.root) if answers.root and alarms else [])]) + "\n"


def _alarms(to: str) -> list[str]:
    """The alarms of a first configuration."""
    lines = ["", "# Alarms: `kite alarm list` shows them, `kite alarm test NAME` sends a test."]
    for name, when, limit in ALARMS:
        lines += [
            "[[alarm]]",
            f"name = {toml_value(name)}",
            f"when = {toml_value(when)}",
            *([f"limit = {toml_value(limit)}"] if limit is not None else []),
            f"to = {toml_value(to)}",
            "",
        ]
    return lines[:-1]


def credential_name(host: str) -> str:
    """A name for the connector and its credential: the part of the host's name that tells it from others."""
    labels = host.split(".")
    if ":" in host or host.replace(".", "").isdigit():
        return "smarthost"
    return labels[-2] if len(labels) > 1 else labels[0]


def default_binds(folder: Path) -> tuple[str, ...]:
    """The default endpoints: the standard places for the system's configuration, unprivileged ones for a user's."""
    if folder == Path("/etc/copper-kite"):
        return "127.0.0.1:25", "[::1]:25", f"unix:{SOCKET_SYSTEM}"
    return "127.0.0.1:2525", f"unix:{folder.absolute() / SOCKET_NAME}"
