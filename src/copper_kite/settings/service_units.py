"""The systemd units of a server: a user of its own, hardening, sockets opened and secrets handed over by systemd."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from copper_kite.settings.accounts import ACCOUNTS
from copper_kite.settings.load import Loaded

__all__ = ["NAME", "STATE", "service_unit", "socket_unit"]

NAME = "copper-kite"
STATE = Path("/var/lib") / NAME
LOGS = Path("/var/log")
_OWN_STATE = ["DynamicUser=yes", f"StateDirectory={NAME}", "StateDirectoryMode=0711"]

HARDENING = """\
CapabilityBoundingSet=
AmbientCapabilities=
NoNewPrivileges=yes
ProtectSystem=strict
PrivateTmp=yes
PrivateDevices=yes
ProtectClock=yes
ProtectControlGroups=yes
ProtectHostname=yes
ProtectKernelLogs=yes
ProtectKernelModules=yes
ProtectKernelTunables=yes
ProtectProc=invisible
ProcSubset=pid
LockPersonality=yes
RemoveIPC=yes
RestrictAddressFamilies=AF_INET AF_INET6 AF_UNIX
RestrictNamespaces=yes
RestrictRealtime=yes
RestrictSUIDSGID=yes
SystemCallArchitectures=native
SystemCallFilter=@system-service
SystemCallFilter=~@privileged @resources
SystemCallFilter=sched_setscheduler
SystemCallErrorNumber=EPERM
UMask=0077
"""


def service_unit(loaded: Loaded, command: Sequence[str], user: str = NAME) -> str:
    """The service. `command` starts kite.

    With the queue in its usual place `user` need not exist: systemd makes one while it runs, which owns that folder.
    Elsewhere it must exist and own the queue's folder.
    """
    credentials = loaded.path.parent.absolute() / loaded.settings.server.credentials
    secret = any(connector.credential for connector in loaded.settings.connector)
    keys = [loaded.path.parent.absolute() / entry.key for entry in loaded.settings.signing]
    data = loaded.data.absolute()
    home = any(str(path).startswith(("/home/", "/root/")) for path in (Path(command[0]), loaded.path.absolute()))
    lines = [
        "[Unit]",
        "Description=Copper Kite, mail out of this server",
        "After=network-online.target nss-lookup.target",
        "Wants=network-online.target",
        f"Requires={NAME}.socket",
        f"After={NAME}.socket",
        "",
        "[Service]",
        "Type=notify",
        f"ExecStart={' '.join(command)} --config {loaded.path.absolute()} serve",
        "ExecReload=/bin/kill -HUP $MAINPID",
        "Restart=on-failure",
        "RestartSec=2s",
        "TimeoutStopSec=30s",
        "WatchdogSec=60s",
        f"User={user}",
        *([f"LoadCredential={credentials.name}:{credentials}"] if secret else []),
        *([f"LoadCredential={ACCOUNTS}:{credentials.parent / ACCOUNTS}"] if loaded.settings.account else []),
        *(f"LoadCredential={key.name}:{key}" for key in keys),
        *(_OWN_STATE if data == STATE else [f"ReadWritePaths={data}"]),
        *_log_folder(loaded),
        *_drop_folder(loaded, user),
        f"ProtectHome={'read-only' if home else 'yes'}",
        HARDENING.rstrip(),
        "",
        "[Install]",
        "WantedBy=multi-user.target",
    ]
    return "\n".join(lines) + "\n"


def _log_folder(loaded: Loaded) -> list[str]:
    """The folder of a log that is a file elsewhere; systemd makes and gives it away where that is its usual place."""
    log = loaded.settings.log.to
    if not log.startswith("file:"):
        return []
    folder = (loaded.path.parent.absolute() / log.removeprefix("file:")).parent
    if folder.is_relative_to(loaded.data.absolute()):
        return []
    if folder.parent == LOGS:
        return [f"LogsDirectory={folder.name}"]
    return [f"ReadWritePaths={folder}"]


def _drop_folder(loaded: Loaded, user: str) -> list[str]:
    """Where local users leave mail while nobody takes it. In a user namespace of its own, the service would not see
    whose it is; without listeners for local users, it gets one."""
    local = any(endpoint.path for entry in loaded.settings.listener if entry.enabled for endpoint in entry.bind)
    if not local:
        return ["PrivateUsers=yes"]
    return [
        f"ExecStartPre=+/usr/bin/install -d -m 1733 -o {user} -g {user} {loaded.drop}",
        f"ReadWritePaths=-{loaded.drop}",
    ]


def socket_unit(loaded: Loaded) -> str:
    """Its sockets: systemd opens them, so that the server needs no right to low ports."""
    lines = ["[Unit]", "Description=Where programs submit mail to Copper Kite", "", "[Socket]"]
    for listener in loaded.settings.listener:
        if listener.enabled:
            lines += [f"ListenStream={endpoint.path or endpoint}" for endpoint in listener.bind]
    lines += ["SocketMode=0666", "BindIPv6Only=ipv6-only", "Backlog=512", f"Service={NAME}.service", ""]
    return "\n".join([*lines, "[Install]", "WantedBy=sockets.target"]) + "\n"
