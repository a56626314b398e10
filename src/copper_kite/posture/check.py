"""Problems, present and future, of a configuration that can be read: findings with a level and a reason."""

from __future__ import annotations

import datetime
import ipaddress
import os
import pwd
import socket
import tomllib
from collections.abc import Callable, Iterator
from importlib.util import find_spec
from pathlib import Path

from copper_kite.errors import Finding, SettingsError, StoreError
from copper_kite.net import certificate_end
from copper_kite.routing import Outward, Router, everything_is_carried, ties
from copper_kite.settings import (
    Connector,
    Listener,
    Loaded,
    examine_configuration,
    is_everybody,
    locate_key,
    read_source,
    toml_value,
    unusable_keys,
)
from copper_kite.store import open_store, why_no_drop_folder
from copper_kite.trace import find_map, found_files

__all__ = ["check_file", "check_source"]

SOON_DAYS = 21  # before a certificate ends: then it is a finding
SHORTEST_LIFETIME = 3600.0  # seconds
Keys = tuple[str | int, ...]

_WHY_ERROR = "no server starts with it, and a running one does not take it up"


def check_file(path: Path, now: float) -> tuple[Loaded | None, list[Finding]]:
    """All findings about the file at `path`, in the order of its lines; and the settings, when they can be used.

    `now` in seconds since 1970. Raises nothing for what is in the file.
    """
    try:
        source = read_source(path)
    except SettingsError as error:
        return None, [finding._replace(why=_WHY_ERROR) for finding in error.findings]
    return check_source(path, source, now)


def check_source(path: Path, source: str, now: float) -> tuple[Loaded | None, list[Finding]]:
    """The same for a text that is, or will be, the file `path`."""
    try:
        loaded, findings = examine_configuration(path, source)
    except SettingsError as error:
        return None, [finding._replace(why=_WHY_ERROR) for finding in error.findings]
    usable = not findings
    findings = [finding._replace(why=finding.why or _WHY_ERROR) for finding in findings]
    told = {(finding.file, finding.key) for finding in findings}
    more = _Check(loaded, source, now).findings()
    for finding in more:  # a table that is misspelt in one key is not also told that the key is missing
        inside = any(file == finding.file and key.startswith(f"{finding.key}.") for file, key in told)
        if not inside and (finding.file, finding.key) not in told:
            findings.append(finding)
    findings.sort(key=lambda finding: (finding.file, finding.line or 0))
    return loaded if usable else None, findings


class _Check:
    """The checks of one configuration that loads."""

    def __init__(self, loaded: Loaded, source: str, now: float) -> None:
        self._loaded = loaded
        self._source = source
        self._now = now

    def findings(self) -> Iterator[Finding]:
        """All of them, in no particular order."""
        checks: tuple[Callable[[], Iterator[Finding]], ...] = (
            self._coverage,
            self._connectors,
            self._credentials,
            self._listeners,
            self._certificates,
            self._accounts,
            self._identity,
            self._retry,
            self._folders,
            self._other_logs,
            self._monitoring,
            self._signing,
        )
        for check in checks:
            yield from check()

    def _finding(self, level: str, keys: Keys, problem: str, why: str, remedy: str) -> Finding:
        key = "".join(f"[{part + 1}]" if isinstance(part, int) else f".{part}" for part in keys).lstrip(".")
        line = locate_key(self._source, keys)
        path = str(self._loaded.path)
        return Finding(file=path, line=line, key=key, problem=problem, remedy=remedy, why=why, level=level)

    def _signing(self) -> Iterator[Finding]:
        """Signing keys that cannot be used."""
        for number, problem in unusable_keys(self._loaded):
            why = "mail from that domain waits: it is never sent unsigned"
            remedy = "put it back from a backup, or make another: kite signing add"
            yield self._finding("error", ("signing", number, "key"), problem, why, remedy)

    def _other_logs(self) -> Iterator[Finding]:
        """Logs that `kite trace` is to look in, and cannot."""
        base = self._loaded.path.parent
        for number, entry in enumerate(self._loaded.settings.other_log):
            keys = ("other_log", number)
            try:
                if entry.map is not None:
                    find_map(entry.map, base)
            except SettingsError as error:
                why, remedy = "kite trace and kite log end with this error", "see docs/line-maps.md"
                yield self._finding("error", (*keys, "map"), error.findings[0].problem, why, remedy)
            if not any(found_files(base, pattern) for pattern in entry.files):
                why, remedy = "stories end where the message leaves this server", "compare the names with what is there"
                yield self._finding("warning", (*keys, "files"), "there is no such file", why, remedy)

    def _monitoring(self) -> Iterator[Finding]:
        """A report that cannot be made; alarms about connectors that wait in the connector that failed."""
        settings = self._loaded.settings
        missing = [name for name in ("matplotlib", "jinja2") if find_spec(name) is None]
        if settings.report.to and missing:
            why, remedy = "no report will be sent", "pip install 'copper-kite[report]'"
            yield self._finding("error", ("report", "to"), f"{' and '.join(missing)} is missing", why, remedy)
        others = [connector.name for connector in settings.connector if connector.enabled]
        for number, alarm in enumerate(settings.alarm if len(others) > 1 else ()):
            if (
                not alarm.enabled
                or alarm.when != "connector_failing"
                or not alarm.to
                or alarm.connector
                or alarm.command
            ):
                continue
            usual = Router(settings.connector).carrier(alarm.to, "")
            other = next((name for name in others if name != usual), "")
            why = f"when {usual} fails, the mail about it waits for {usual}"
            remedy = f"kite alarm set {alarm.name} connector={other}"
            yield self._finding("remark", ("alarm", number), f"its mail goes by {usual}, too", why, remedy)

    # --- the way out ------------------------------------------------------------------------------------------------

    def _coverage(self) -> Iterator[Finding]:
        connectors = self._loaded.settings.connector
        if not connectors:
            why = "mail is taken in and then waits, until it fails at the end of its lifetime"
            remedy = "kite connector add NAME hosts=HOST"
            yield self._finding("error", ("connector",), "there is no connector", why, remedy)
        elif not everything_is_carried(connectors):
            why = "mail for other recipients waits, until it fails at the end of its lifetime"
            known = ", ".join(dict.fromkeys(p for entry in connectors if entry.enabled for p in entry.recipients))
            problem = f"only mail for {known or 'nobody'} has a connector"
            yield self._finding("warning", ("connector",), problem, why, 'give one connector recipients = ["*"]')
        for earlier, number, pattern in ties(connectors):
            later = connectors[number]
            yield self._finding(
                "warning",
                ("connector", number, "name"),
                f"{later.name} and {earlier.name} both take {pattern} with preference {later.preference}",
                f"only their order in the file decides, and {later.name} never gets this mail",
                "give them different preferences",
            )

    def _connectors(self) -> Iterator[Finding]:
        for number, entry in enumerate(self._loaded.settings.connector):
            keys = ("connector", number)
            if entry.tls == "off" and not _is_local(entry):
                why = "everybody on the way can read and change the mail"
                yield self._finding(
                    "warning", (*keys, "tls"), f"{entry.name} sends mail in clear", why, 'write tls = "starttls"'
                )
            if entry.credential and entry.login_in_clear:
                why = "whoever listens on the way, or stands in for the next hop, has the password"
                problem = f"{entry.name} may log in without verified TLS"
                yield self._finding("warning", (*keys, "login_in_clear"), problem, why, "take login_in_clear away")
            if (
                entry.trust != "system"
                and entry.tls not in ("off", "opportunistic")
                and not entry.trust.startswith("sha256:")
            ):
                yield from self._authority(entry, (*keys, "trust"))

    def _authority(self, entry: Connector, keys: Keys) -> Iterator[Finding]:
        from cryptography import x509

        path = self._loaded.path.parent / entry.trust
        if path.is_dir():
            return
        try:
            certificates = x509.load_pem_x509_certificates(path.read_bytes())
        except (OSError, ValueError):
            why = "no next hop can be trusted by it, so nothing is sent"
            problem = f"{entry.trust} holds no certificate in PEM form"
            yield self._finding("error", keys, problem, why, "name the PEM file of the authority")
            return
        now = datetime.datetime.fromtimestamp(self._now, datetime.UTC)
        for certificate in certificates:
            days = (certificate.not_valid_after_utc - now).days
            if days >= SOON_DAYS:
                continue
            problem = f"an authority in {entry.trust} {f'ends in {days} days' if days >= 0 else 'is out of date'}"
            why = "from then on the next hop is not trusted, and its mail waits"
            level = "warning" if days >= 0 else "error"
            yield self._finding(level, keys, problem, why, "ask who runs the next hop for the new one")

    def _credentials(self) -> Iterator[Finding]:
        settings, base = self._loaded.settings, self._loaded.path.parent
        used = {entry.credential for entry in settings.connector} | {settings.server.store_credential}
        file = base / settings.server.credentials
        if not file.exists():
            return
        try:
            source = file.read_text("utf-8")
            names = list(tomllib.loads(source))
        except (OSError, ValueError):
            return  # that a connector cannot use it has been told
        for name in names:
            if name not in used:
                yield Finding(
                    file=str(file),
                    line=locate_key(source, (name,)),
                    key=name,
                    problem="no connector uses this credential",
                    why="a secret that is kept for nothing can only be lost",
                    remedy=f"kite credential remove {name}",
                    level="remark",
                )

    # --- the way in -------------------------------------------------------------------------------------------------

    def _listeners(self) -> Iterator[Finding]:
        listeners = self._loaded.settings.listener
        if not any(entry.enabled for entry in listeners):
            why = "no program can submit mail"
            remedy = "kite listener add NAME bind=ADDRESS:PORT"
            yield self._finding("error", ("listener",), "there is no listener", why, remedy)
        taken: dict[str, str] = {}
        for number, entry in enumerate(listeners):
            keys = ("listener", number)
            yield from self._open_relay(entry, keys)
            for endpoint in entry.bind:
                where = str(endpoint)
                if where in taken and entry.enabled:
                    why = "only one of them can listen there, so the server does not start"
                    problem = f"{where} is listened on by {taken[where]} too"
                    yield self._finding("error", (*keys, "bind"), problem, why, "give each its own address")
                taken.setdefault(where, entry.name)
                if 0 < endpoint.port < 1024 and entry.enabled and not _may_bind_low():
                    why = "the system keeps ports below 1024 for those who have the right"
                    problem = f"this user may not listen on port {endpoint.port}"
                    remedy = "run it by `kite service`, which has the right, or take a port like 2525"
                    yield self._finding("remark", (*keys, "bind"), problem, why, remedy)

    def _open_relay(self, entry: Listener, keys: Keys) -> Iterator[Finding]:
        """Others than this machine may submit mail: only networks named on purpose, and never everybody."""
        for network in entry.allow:
            if is_everybody(network):
                why = "whoever finds it sends mail in your name, and your smart host blocks you for it"
                problem = f"{entry.name} takes mail from everybody without a login: an open relay"
                remedy = "name the networks of your own programs"
                yield self._finding("warning", (*keys, "allow"), problem, why, remedy)
            elif not network.is_private and not network.is_loopback:
                why = "each machine in it sends mail in your name, without a login"
                problem = f"{entry.name} takes mail from {network}, which is not a private network"
                remedy = "name single addresses, as narrow as can be"
                yield self._finding("warning", (*keys, "allow"), problem, why, remedy)
        reachable = [e for e in entry.bind if not e.path and not ipaddress.ip_address(e.host).is_loopback]
        if reachable and "allow" not in entry.model_fields_set and entry.enabled:
            why = "clients on other machines get 550 5.7.1, which may be meant or not"
            problem = f"{entry.name} listens on {reachable[0]} for other machines, and none may use it"
            yield self._finding("remark", (*keys, "bind"), problem, why, 'name who may: allow = ["10.1.2.0/24"]')

    def _certificates(self) -> Iterator[Finding]:
        for number, entry in enumerate(self._loaded.settings.listener):
            if entry.tls == "off" or entry.certificate is None:
                continue
            end = certificate_end(self._loaded.path.parent / entry.certificate)
            if end is None:
                continue  # that it cannot be used has been told
            days = int((end - self._now) // 86400)
            if days < SOON_DAYS:
                problem = f"the certificate of {entry.name} {f'ends in {days} days' if days >= 0 else 'is out of date'}"
                level, why = "warning" if days >= 0 else "error", "from then on clients refuse the session"
                remedy = "put the new one in its place, and `kite config reload`"
                yield self._finding(level, ("listener", number, "certificate"), problem, why, remedy)

    def _accounts(self) -> Iterator[Finding]:
        settings = self._loaded.settings
        wanted = [number for number, entry in enumerate(settings.listener) if entry.login == "required"]
        if wanted and not self._loaded.accounts:
            why = "nobody can submit mail there"
            problem = f"{settings.listener[wanted[0]].name} wants a login, and no account can log in"
            remedy = "give it an account with a password: kite account add"
            yield self._finding("warning", ("listener", wanted[0], "login"), problem, why, remedy)
        for number, account in enumerate(settings.account):
            if account.enabled and account.name not in self._loaded.accounts:
                why = "whoever logs in with it gets 535"
                remedy = f"kite account password {account.name}"
                problem = f"{account.name} has no password"
                yield self._finding("warning", ("account", number, "name"), problem, why, remedy)

    # --- the rest ---------------------------------------------------------------------------------------------------

    def _identity(self) -> Iterator[Finding]:
        identity, name = self._loaded.settings.identity, self._loaded.server_name
        if identity.domain is None:
            why = "a program that writes only root gets 501, and its mail is lost to you"
            meant = name.partition(".")[2]
            remedy = "write the domain of your addresses: domain = " + toml_value(
                meant if "." in meant else "ternferries.example"
            )
            yield self._finding("warning", ("identity",), "bare names cannot be completed", why, remedy)
        outward = Outward(identity, name)
        for local, address in identity.recipients.items():
            if not outward.is_elsewhere(outward.recipient(local) or ""):
                why = "it would come back for ever"
                problem = (
                    f"mail for {local} goes to {address}, and from there in a circle, or to this server's own name"
                )
                remedy = "name an address outside, where somebody reads it"
                yield self._finding("error", ("identity", "recipients"), problem, why, remedy)
        if identity.domain and not ({"root", "postmaster"} & identity.recipients.keys()):
            why = "it goes to root@ your domain, where perhaps nobody reads it"
            remedy = 'write recipients = { root = "somebody@example" }'
            yield self._finding("remark", ("identity",), "nobody is named for mail to root", why, remedy)

    def _retry(self) -> Iterator[Finding]:
        retry = self._loaded.settings.retry
        if retry.lifetime < SHORTEST_LIFETIME:
            why = "a short outage of the smart host already fails mail; RFC 5321 4.5.4.1 asks for four to five days"
            yield self._finding("warning", ("retry", "lifetime"), "the lifetime is very short", why, 'lifetime = "5d"')
        if min(retry.waits) <= 0 or min(retry.waits) > retry.lifetime:
            why = "it would be tried without a pause, or never again"
            problem = "a wait is no time at all, or longer than the lifetime"
            yield self._finding("error", ("retry", "waits"), problem, why, 'waits = ["1m", "5m", "15m", "30m", "1h"]')

    def _folders(self) -> Iterator[Finding]:
        data = self._loaded.data
        place = next(parent for parent in (data, *data.parents) if parent.exists())
        if not place.is_dir() or not os.access(place, os.W_OK | os.X_OK):
            why = "the server, started by this user, could keep nothing"
            problem = f"{data} cannot be written by this user"
            yield self._finding("remark", ("server", "data"), problem, why, "run it as the owner, or by `kite service`")
        elif data.exists() and data.stat().st_mode & 0o006:
            why = "everybody on this machine can read the mail that waits"
            problem = f"others can look into {data}"
            yield self._finding("warning", ("server", "data"), problem, why, f"chmod 711 {data}")
        yield from self._room(place)
        yield from self._drop_folder()
        yield from self._shared_store()
        if self._loaded.settings.server.name == "auto" and socket.gethostname() != self._loaded.server_name:
            why = "it changes when the system's name does"
            problem = f"the system says it is {self._loaded.server_name}"
            remedy = f'write name = "{self._loaded.server_name}"'
            yield self._finding("remark", ("server", "name"), problem, why, remedy)

    def _shared_store(self) -> Iterator[Finding]:
        if not self._loaded.settings.server.store:
            return
        try:
            open_store(self._loaded.store).probe()
        except StoreError as error:
            why = "no server that shares the queue can take mail, or send what waits"
            yield self._finding("error", ("server", "store"), error.problem, why, error.remedy or "see its log")
        except SettingsError as error:
            yield from (finding._replace(why="the database cannot be reached") for finding in error.findings)

    def _room(self, place: Path) -> Iterator[Finding]:
        """Less than what is to stay free: nothing is taken in."""
        least = self._loaded.settings.server.keep_free
        result = os.statvfs(place)
        free = result.f_bavail * result.f_frsize
        if free < least:
            why = "no message is taken while it is so; programs get `452`"
            problem = f"the disk of {place} has {free >> 20} MiB left, and {least >> 20} MiB are to stay free"
            remedy = "make room on it, or lower keep_free"
            yield self._finding("error", ("server", "keep_free"), problem, why, remedy)

    def _drop_folder(self) -> Iterator[Finding]:
        listeners = [entry for entry in self._loaded.settings.listener if entry.enabled]
        sockets = [Path(endpoint.path) for entry in listeners for endpoint in entry.bind if endpoint.path]
        if not sockets:
            return
        folder, data = self._loaded.drop, self._loaded.data
        if not data.exists() or (not folder.exists() and folder.parent == data):
            return  # the server makes it
        owner = data.stat().st_uid
        problem = why_no_drop_folder(str(folder), owner)
        if not problem and _all_may_pass(sockets[0].parent) and not _all_may_pass(folder.parent):
            problem = "other users cannot reach it"
        if problem:
            why = "while the server is stopped, mail of programs that call `kite pipe` is refused, and lost"
            remedy = f"install -d -m 1733 -o {_user_name(owner)} {folder}, and let all users through to it"
            yield self._finding("warning", ("server", "drop"), f"{folder} cannot be used: {problem}", why, remedy)


def _all_may_pass(folder: Path) -> bool:
    """Whether every user gets into a folder."""
    return folder.exists() and all(place.stat().st_mode & 0o001 for place in (folder, *folder.parents))


def _user_name(uid: int) -> str:
    try:
        return pwd.getpwuid(uid).pw_name
    except KeyError:
        return str(uid)


def _is_local(entry: Connector) -> bool:
    host = entry.next_hop.host
    if host == "localhost":
        return True
    if entry.mx:
        return False
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return False


def _may_bind_low() -> bool:
    """Whether this process may listen on ports below the system's limit."""
    if os.geteuid() == 0:
        return True
    try:
        return int(Path("/proc/sys/net/ipv4/ip_unprivileged_port_start").read_text()) <= 25
    except (OSError, ValueError):
        return False
