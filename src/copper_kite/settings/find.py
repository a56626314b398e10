"""Where the configuration is, and the little of it that submitting a message needs: quick to import, quick to run."""

from __future__ import annotations

import os
import tomllib
from typing import TYPE_CHECKING, Any, NamedTuple

from copper_kite.errors import Finding, SettingsError

if TYPE_CHECKING:
    from collections.abc import Sequence
    from pathlib import Path

__all__ = ["SPOOL", "ConnectorSketch", "Sketch", "drop_folder", "find_config", "find_file", "plain_pattern", "sketch"]

FILE_NAME = "kite.toml"
DATA = "/var/lib/copper-kite"
SPOOL = "/var/spool/copper-kite"  # beside it, for what the service manager keeps others from


def drop_folder(written: str, data: str, base: str) -> str:
    """Where the drop folder is, as it is `written` in a file in the folder `base`; `data` is the data folder."""
    if written == "auto":
        return SPOOL if data == DATA else os.path.join(data, "drop")  # noqa: PTH118
    return os.path.join(base, written)  # noqa: PTH118


def plain_pattern(written: str) -> str:
    """A pattern of addresses in its shortest form: `*@port.example` is the domain."""
    return written.removeprefix("*@")


def find_config(given: str | None) -> Path:
    """The configuration's path: as given, from $KITE_CONFIG, the user's, the system's. Raises SettingsError."""
    from pathlib import Path

    return Path(find_file(given))


def find_file(given: str | None) -> str:
    """As `find_config`, without slow imports."""
    if given or os.environ.get("KITE_CONFIG"):
        return given or os.environ["KITE_CONFIG"]
    home = os.environ.get("XDG_CONFIG_HOME") or os.path.expanduser("~/.config")  # noqa: PTH111
    places = [f"{home}/copper-kite/{FILE_NAME}", f"/etc/copper-kite/{FILE_NAME}"]
    for place in places:
        if os.path.exists(place):  # noqa: PTH110
            return place
    raise SettingsError(
        [
            Finding(
                file=places[-1],
                line=None,
                key="",
                problem=f"no configuration found, here or in {places[0]}",
                remedy="kite init writes one; or name one that there is with --config or $KITE_CONFIG",
            )
        ]
    )


class ConnectorSketch(NamedTuple):
    """The recipients of a connector, the name of its credential, and whether it uses each domain's own exchangers."""

    name: str
    recipients: Sequence[str] = ("*",)
    senders: Sequence[str] = ("*",)
    preference: int = 20
    enabled: bool = True
    credential: str | None = None
    mx: bool = False


class Sketch:
    """The parts of a configuration that submitting a message or tracing it needs. It is not checked here.

    `sockets` are the paths of the listeners' Unix sockets, `data` the folder of the queue, `store` where it is else.
    """

    def __init__(self) -> None:
        self.data = DATA
        self.store = ""
        self.drop = SPOOL
        self.server_name = "localhost"
        self.domain: str | None = None
        self.senders: dict[str, str] = {}
        self.recipients: dict[str, str] = {}
        self.sockets: list[str] = []
        self.connectors: list[ConnectorSketch] = []
        self.has_other_logs = False


def sketch(file: str) -> Sketch:
    """Read the little that is needed. Raises SettingsError for a file that cannot be read."""
    try:
        with open(file, "rb") as opened:  # noqa: PTH123
            return _sketch(file, tomllib.load(opened))
    except (OSError, ValueError, TypeError, AttributeError) as error:  # the last two: a value of another kind
        problem = f"cannot be read ({getattr(error, 'strerror', None) or error})"
        finding = Finding(file=file, line=None, key="", problem=problem, remedy="kite check")
        raise SettingsError([finding]) from error


def _sketch(file: str, tables: dict[str, Any]) -> Sketch:
    server, identity, listeners = (tables.get(name) for name in ("server", "identity", "listener"))
    result = Sketch()
    if isinstance(server, dict):
        result.server_name = _name(server.get("name", "auto"))
        result.data = str(server.get("data", DATA))
        result.store = str(server.get("store", ""))
    base = os.path.dirname(os.path.abspath(file))  # noqa: PTH100, PTH120
    result.data = os.path.join(base, result.data)  # noqa: PTH118
    written = server.get("drop", "auto") if isinstance(server, dict) else "auto"
    result.drop = drop_folder(str(written), result.data, base)
    if isinstance(identity, dict):
        result.domain = identity.get("domain")
        result.senders = {name.lower(): address for name, address in dict(identity.get("senders", {})).items()}
        result.recipients = {name.lower(): address for name, address in dict(identity.get("recipients", {})).items()}
    for listener in listeners if isinstance(listeners, list) else []:
        result.sockets += [bind[5:] for bind in listener.get("bind", ()) if str(bind).startswith("unix:")]
    result.has_other_logs = bool(tables.get("other_log"))
    result.connectors = [
        _connector({key: item[key] for key in ConnectorSketch._fields if key in item})
        for item in tables.get("connector", ())
        if isinstance(item, dict) and "name" in item
    ]
    return result


def _connector(written: dict[str, Any]) -> ConnectorSketch:
    connector_sketch = ConnectorSketch(**written)
    recipients, senders = (
        [plain_pattern(item) for item in each] for each in (connector_sketch.recipients, connector_sketch.senders)
    )
    return connector_sketch._replace(recipients=recipients, senders=senders)


def _name(written: Any) -> str:
    if written != "auto":
        return str(written)
    import socket

    return socket.getfqdn()
