"""From a file to settings that can be used, or to the list of everything wrong with it."""

from __future__ import annotations

import difflib
import hashlib
import ipaddress
import os
import re
import socket
import ssl
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from copper_kite.errors import Finding, NotReadable, SettingsError
from copper_kite.settings.accounts import ACCOUNTS, read_accounts
from copper_kite.settings.everybody import is_everybody
from copper_kite.settings.explain import dotted, explain, parse_toml, read_source
from copper_kite.settings.find import drop_folder, find_config
from copper_kite.settings.locate import locate_key
from copper_kite.settings.model import Connector, Server, Settings, data_folder
from copper_kite.settings.secrets import Credential, read_credentials
from copper_kite.settings.server_tls import server_context
from copper_kite.settings.store_keys import StoreKeys, check_store_keys
from copper_kite.smtp import ScramKey, Secret
from copper_kite.store import StorePlace

__all__ = ["Loaded", "data_folder_of", "examine_configuration", "find_config", "load_configuration", "load_source"]

_DATA = re.compile(r"""(?m)^\s*data\s*=\s*["']([^"']+)["']""")
MAX_PASSES = 50


@dataclass(frozen=True, slots=True)
class Loaded:
    """Settings that hold together: the file they came from, the server's name, its data folder, its credentials.

    `digest` tells one text of the file from another; `source` is that text.
    """

    path: Path
    settings: Settings
    server_name: str
    data: Path
    credentials: dict[str, Credential]
    source: str
    accounts: dict[str, ScramKey] = field(default_factory=dict)  # of those that may log in

    @property
    def drop(self) -> Path:
        """The folder where programs leave mail while no server takes it."""
        base = str(self.path.parent.absolute())
        return Path(drop_folder(self.settings.server.drop, str(self.data.absolute()), base))

    @property
    def store(self) -> StorePlace:
        """Where the queue is. Raises SettingsError where the credential of its database cannot be used, NotReadable."""
        server, password = self.settings.server, None
        if not server.store:
            return StorePlace(self.data)
        if server.store_credential is not None:
            password = self._store_password(server)
        trust = server.store_trust if server.store_trust == "system" else str(self.path.parent / server.store_trust)
        tls = server.store_tls == "on"
        return StorePlace(self.data, server.store, password, tls, trust, self.server_name, server.lease)

    def at_the_place_of(self, other: Loaded) -> Loaded:
        """The same settings for the name, the data folder and the queue of another."""
        keys = {name: getattr(other.settings.server, name) for name in StoreKeys.model_fields}
        server = self.settings.server.model_copy(update=keys)
        settings = self.settings.model_copy(update={"server": server})
        return replace(self, settings=settings, data=other.data, server_name=other.server_name)

    def _store_password(self, server: Server) -> Secret | None:
        findings: list[Finding] = []
        file = secret_file(self.path, server.credentials)
        credentials = self.credentials or read_credentials(file, findings, self.path.parent)
        credential = credentials.get(server.store_credential or "")
        if credential is None:
            problem = f"no usable credential {server.store_credential!r}, which [server] store_credential names"
            raise SettingsError([*findings, Finding(file=str(file), line=None, key="", problem=problem, remedy="")])
        return credential.password

    @property
    def postmaster(self) -> str:
        """The address of this server's administrator (RFC 5321 4.5.1), from which its own mail comes."""
        return f"postmaster@{self.settings.identity.domain or self.server_name}"

    @property
    def digest(self) -> str:
        """The same for the same text."""
        return hashlib.sha256(self.source.encode()).hexdigest()[:16]


def load_configuration(path: Path, *, secrets: bool = True) -> Loaded:
    """Read `path`, and the credentials when `secrets`. Raises SettingsError with every finding."""
    return load_source(path, read_source(path), secrets=secrets)


def load_source(path: Path, source: str, *, secrets: bool = True) -> Loaded:
    """As `load`, for a text that stands, or is to stand, at `path`."""
    loaded, findings = examine_configuration(path, source, secrets=secrets)
    if findings:
        raise SettingsError(findings)
    return loaded


def examine_configuration(path: Path, source: str, *, secrets: bool = True) -> tuple[Loaded, list[Finding]]:
    """The settings as far as they can be read, and everything that keeps them from being used.

    With findings, what they are about has its default, or a stand-in for what has none. Raises SettingsError when the
    text is not TOML.
    """
    settings, findings = _validate(path, source)

    def wrong(keys: tuple[str | int, ...], problem: str, remedy: str = "") -> None:
        findings.append(
            Finding(file=str(path), line=locate_key(source, keys), key=dotted(keys), problem=problem, remedy=remedy)
        )

    server_name = settings.server.name
    if server_name == "auto":
        server_name = socket.getfqdn()
        if "." not in server_name:
            wrong(
                ("server", "name"),
                f"the system calls itself {server_name!r}, which is not fully qualified",
                'write it: name = "quay1.ternferries.example"',
            )
    _check_signing(settings, wrong)
    for table in ("listener", "account", "connector", "alarm"):
        _check_names(table, [entry.name for entry in getattr(settings, table)], wrong)
    credentials: dict[str, Credential] = {}
    if secrets and (settings.server.store_credential or any(connector.credential for connector in settings.connector)):
        credentials = read_credentials(secret_file(path, settings.server.credentials), findings, path.parent)
    _check_connectors(settings, path, credentials if secrets else None, wrong)
    check_store_keys(settings.server, path.parent, credentials if secrets else None, wrong)
    _check_listeners(settings, path, wrong, secrets=secrets)
    _check_alarms(settings, wrong)
    accounts = _accounts(settings, path, findings) if secrets else {}
    return Loaded(
        path, settings, server_name, data_folder(settings, path.parent), credentials, source, accounts
    ), findings


# What stands in for a required value that is missing or wrong, while the rest is looked at.
_STAND_INS: dict[str, Any] = {
    "hosts": ["missing.invalid:25"],
    "bind": ["127.0.0.1:9"],
    "when": "surge",
    "command": "true",
}


def _validate(path: Path, source: str) -> tuple[Settings, list[Finding]]:
    """The model's view of the text; what it refuses becomes a finding, and is taken out before it looks again."""
    tables = parse_toml(path, source)
    findings: list[Finding] = []
    for _ in range(MAX_PASSES):
        try:
            return Settings.model_validate(tables), sorted(findings, key=lambda finding: finding.line or 0)
        except ValidationError as error:
            findings += [finding for finding in explain(error, Settings, path, source) if finding not in findings]
            for detail in error.errors(include_url=False):
                _take_out(tables, [key for key in detail["loc"] if not str(key).startswith("function-")])
    raise SettingsError(findings)


def _take_out(tables: Any, keys: list[str | int]) -> None:
    """Take the value at `keys`, or the key it is in, out of `tables`; what is required gets a stand-in."""
    while any(isinstance(key, int) for key in keys[2:]) or (keys and isinstance(keys[-1], int) and len(keys) > 2):
        keys = keys[:-1]  # one bad part of a list spoils the list
    *way, last = keys
    for key in way:
        if not isinstance(tables, dict | list):
            return
        tables = tables[key]  # type: ignore[index]
    if keys == ["server", "name"]:
        tables[last] = "unnamed.invalid"
    elif last in _STAND_INS:
        tables[last] = _STAND_INS[str(last)]
    elif last == "name" and len(way) == 2:
        tables[last] = f"unnamed-{int(way[1]) + 1}"
    elif isinstance(tables, dict):
        tables.pop(last, None)
    elif isinstance(last, int):
        tables[last] = {}


def secret_file(path: Path, name: str) -> Path:
    """A file of secrets: the one that a service manager handed over, else the one beside the configuration."""
    handed_over = Path(os.environ.get("CREDENTIALS_DIRECTORY", "/nowhere")) / Path(name).name
    return handed_over if handed_over.exists() else path.parent / name


def data_folder_of(path: Path) -> Path | None:
    """The data folder that a file names which cannot be used otherwise; None when it cannot even be guessed."""
    try:
        return data_folder_in(path, path.read_text("utf-8", "replace"))
    except OSError:
        return None


def data_folder_in(path: Path, source: str) -> Path:
    """The data folder that a text names which stands at `path`, as far as can be seen without reading it in full."""
    named = _DATA.search(source)
    return path.parent / (named.group(1) if named else Server().data)


def _check_names(table: str, names: list[str], wrong: Any) -> None:
    seen: set[str] = set()
    for number, name in enumerate(names):
        if name in seen:
            wrong((table, number, "name"), f"a second {table} called {name!r}", "give each its own name")
        seen.add(name)


def _check_connectors(settings: Settings, path: Path, credentials: dict[str, Credential] | None, wrong: Any) -> None:
    dns = settings.server.dns
    if dns.startswith("zone:") and not (path.parent / dns.removeprefix("zone:")).is_file():
        wrong(("server", "dns"), f"no file {dns.removeprefix('zone:')!r}", "name a zone file")
    for number, connector in enumerate(settings.connector):
        keys = ("connector", number)
        if connector.mx is bool(connector.hosts):
            problem = "both hosts and mx" if connector.mx else "is missing"
            wrong((*keys, "hosts"), problem, 'write hosts = ["out.example:587"], or mx = true')
        if connector.mx and connector.credential:
            wrong((*keys, "credential"), "mail exchangers take no login", "take the credential away, or name hosts")
        if connector.credential and connector.tls in ("off", "opportunistic") and not connector.login_in_clear:
            wrong(
                (*keys, "tls"),
                f"{connector.name} would send its login in clear",
                'write tls = "starttls" or "implicit", or take the credential away',
            )
        if connector.credential and credentials is not None and connector.credential not in credentials:
            near = difflib.get_close_matches(connector.credential, credentials, 1)
            hint = f"did you mean {near[0]!r}?" if near else f"kite credential set {connector.credential}"
            wrong((*keys, "credential"), f"no usable credential {connector.credential!r}", hint)
        _check_trust(connector, keys, path, wrong, secrets=credentials is not None)


_PINS = re.compile(r"sha256:[0-9a-f]{64}( +sha256:[0-9a-f]{64})*", re.IGNORECASE)


def _check_trust(connector: Connector, keys: tuple[str | int, ...], path: Path, wrong: Any, *, secrets: bool) -> None:
    trust = connector.trust
    if trust.startswith("sha256:"):
        if not _PINS.fullmatch(trust):
            wrong((*keys, "trust"), f"{trust!r} is no pin", "write sha256: and 64 digits, as `kite probe` shows them")
    elif trust != "system" and not _is_there(path.parent / trust, needed=secrets):
        wrong((*keys, "trust"), f"no file {trust!r}", 'name a CA file in PEM form, or "system"')
    if (connector.certificate is None) is not (connector.key is None):
        wrong(
            (*keys, "certificate"),
            f"{connector.name} has a certificate without key, or a key without certificate",
            "name both PEM files",
        )
    elif connector.certificate is not None and connector.key is not None:
        _check_pair(path, connector.certificate, connector.key, keys, wrong, needed=secrets)
    if connector.ciphers:
        try:
            ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT).set_ciphers(connector.ciphers)
        except (ssl.SSLError, ValueError):
            wrong(
                (*keys, "ciphers"), f"{connector.ciphers!r} names no cipher that is known here", "see `openssl ciphers`"
            )


def _check_listeners(settings: Settings, path: Path, wrong: Any, *, secrets: bool) -> None:
    for number, listener in enumerate(settings.listener):
        keys = ("listener", number)
        if listener.enabled and listener.open_relay == "no" and any(map(is_everybody, listener.allow)):
            wrong(
                (*keys, "allow"),
                f"{listener.name} takes mail from everybody without a login: an open relay",
                'name the networks of your own programs; or write open_relay = "yes, I mean it"',
            )
        loopback = all(not e.path and ipaddress.ip_address(e.host).is_loopback for e in listener.bind if not e.path)
        if listener.login != "never" and listener.tls == "off" and not loopback:
            wrong(
                (*keys, "login"),
                f"{listener.name} would take logins in clear from other machines",
                'write tls = "starttls" or "implicit", with certificate and key',
            )
        if listener.tls == "off":
            continue
        if listener.certificate is None or listener.key is None:
            wrong((*keys, "tls"), f"{listener.name} has no certificate or no key", "name both PEM files")
            continue
        _check_pair(path, listener.certificate, listener.key, keys, wrong, needed=secrets)


def _check_signing(settings: Settings, wrong: Any) -> None:
    seen: set[str] = set()
    for number, entry in enumerate(settings.signing):
        if entry.record_name in seen:
            wrong(("signing", number, "selector"), f"a second key at {entry.record_name}", "give each its own selector")
        seen.add(entry.record_name)


def _check_alarms(settings: Settings, wrong: Any) -> None:
    names = [connector.name for connector in settings.connector]
    for number, alarm in enumerate(settings.alarm):
        if alarm.connector and alarm.connector not in names:
            near = difflib.get_close_matches(alarm.connector, names, 1)
            hint = f"did you mean {near[0]!r}?" if near else f"they are {', '.join(names)}"
            wrong(("alarm", number, "connector"), f"no connector {alarm.connector!r}", hint)


def _is_there(file: Path, *, needed: bool) -> bool:
    """Whether there is such a file; where this user may not look, and it is not `needed`, there may be.

    Raises NotReadable.
    """
    try:
        os.stat(file)  # noqa: PTH116 (a name may be no name)
    except PermissionError as error:
        if needed:
            raise NotReadable(str(file)) from error
        return True
    except (OSError, ValueError):
        return False
    return True


def _check_pair(
    path: Path, certificate: str, key: str, keys: tuple[str | int, ...], wrong: Any, *, needed: bool
) -> None:
    """Whether they can be used; where this user may not read them, and they are not `needed`, they may be."""
    try:
        server_context(str(path.parent / certificate), str(path.parent / key))
    except PermissionError as error:
        if needed:
            raise NotReadable(f"{path.parent / certificate} or {path.parent / key}") from error
    except (OSError, ssl.SSLError) as error:
        said = "they do not belong together" if "MISMATCH" in str(error) else str(error).lower()
        wrong((*keys, "certificate"), f"certificate and key cannot be used: {said}", "name PEM files that match")


def _accounts(settings: Settings, path: Path, findings: list[Finding]) -> dict[str, ScramKey]:
    keys = read_accounts(path.parent / ACCOUNTS, findings) if settings.account else {}
    return {
        account.name: keys[account.name] for account in settings.account if account.enabled and account.name in keys
    }
