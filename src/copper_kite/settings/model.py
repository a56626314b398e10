"""What `kite.toml` may say. Every key, its type, its default; anything else is an error with the nearest right key."""

from __future__ import annotations

import ipaddress
from pathlib import Path
from typing import Literal, cast, get_args

from pydantic import BaseModel, Field, IPvAnyAddress, field_validator

from copper_kite.settings.accepted import Accepted
from copper_kite.settings.alarm import Alarm, ReportSettings
from copper_kite.settings.domain import DomainSettings, TlsReports
from copper_kite.settings.find import DATA
from copper_kite.settings.recording import Journal, Log, Metrics, OtherLog
from copper_kite.settings.signing import Signing
from copper_kite.settings.store_keys import StoreKeys
from copper_kite.settings.table import Table
from copper_kite.settings.units import (
    Endpoint,
    parse_endpoint,
)
from copper_kite.settings.value_types import (
    AccountName,
    AllowanceOf,
    Allowed,
    Bind,
    Dns,
    Domain,
    Duration,
    Name,
    PaceOf,
    Pattern,
    Sasl,
    Size,
    check_address,
    check_address_or_none,
    check_domain,
    in_a_list,
)

__all__ = [
    "Account",
    "Connector",
    "Guard",
    "Identity",
    "Listener",
    "Retry",
    "Server",
    "Settings",
    "model_of",
]

DEFAULT_PORTS = {
    "implicit": 465,
    "starttls": 587,
    "opportunistic": 25,
    "off": 25,
}  # RFC 8314 3.3, RFC 6409 3.1, RFC 5321


PriorityName = Literal["urgent", "normal", "bulk"]


class Server(StoreKeys):
    """`[server]`: who this server is and where it keeps its queue."""

    name: str = Field(
        default="auto", description='Full name, in EHLO, `Received:` and Message-ID; `"auto"` asks the system.'
    )
    data: str = Field(default=DATA, description="Folder of the queue; one server at a time serves it.")
    drop: str = Field(
        default="auto",
        description="Folder where `kite pipe` leaves mail while no server takes it, of mode 1733; every local user "
        'must reach it. `"auto"`: `drop` in the data folder, /var/spool/copper-kite where that is in its usual place.',
    )
    dns: Dns = Field(
        default="system",
        description='How names are looked up: `"system"`, a server\'s address (`"192.0.2.53"`, `"127.0.0.1:5353"`), or '
        '`"zone:FILE"` for trials without network.',
    )
    addresses: list[IPvAnyAddress] = Field(
        default=[],
        description="The addresses that connections from here come from, as the outside sees them; for `kite domain`.",
    )
    sessions: int = Field(default=1000, ge=1, description="Sessions of programs at a time, all together.")
    sessions_per_client: int = Field(default=500, ge=1, description="Sessions at a time from one address.")
    keep_free: Size = Field(
        default=64 * 1024**2,
        description="Room left on the disk: below it mail is put off (452), and the queue goes on.",
    )
    longest_wait: Duration = Field(
        default=120.0,
        description="How long a client waits for an answer, for the disk (then 451) or for its `pace` (then 450).",
    )
    max_hops: int = Field(
        default=100, ge=10, description="Servers that a message may have passed; one that passed more goes in a loop."
    )
    backup: str = Field(
        default="", description="Where copies of the queue's folder are put, for `kite audit` to see how old they are."
    )
    credentials: str = Field(default="credentials.toml", description="The credentials file.")

    @field_validator("name")
    @classmethod
    def _name(cls, value: str) -> str:
        return value if value == "auto" else check_domain(value)


class Identity(Table):
    """`[identity]`: how local names look outside."""

    domain: Domain | None = Field(default=None, description="Completes a bare name, as in `root`.")
    recipients: dict[str, str] = Field(default={}, description="Where mail for a local name goes.")
    senders: dict[str, str] = Field(
        default={}, description='The address that a local sender has outside; `"*"` is for all that are not named.'
    )

    @field_validator("recipients", "senders")
    @classmethod
    def _recipients(cls, value: dict[str, str]) -> dict[str, str]:
        for address in value.values():
            check_address(address)
        return {name.lower(): address for name, address in value.items()}


class Listener(Table):
    """`[[listener]]`: where programs submit mail."""

    name: Name = Field(description="Its name in refusals and stories.")
    bind: list[Bind] = Field(
        min_length=1, description='Addresses: `"127.0.0.1:25"`, `"[::1]:25"`, `"unix:/run/copper-kite/submit.sock"`.'
    )
    tls: Literal["off", "starttls", "implicit"] = Field(
        default="off",
        description='`"implicit"` (RFC 8314, port 465), `"starttls"` (RFC 3207; no mail before it) or `"off"`.',
    )
    certificate: str | None = Field(default=None, description="With TLS: PEM file of the certificate chain.")
    key: str | None = Field(default=None, description="With TLS: PEM file of its key.")
    login: Literal["never", "optional", "required"] = Field(
        default="never", description="Whether clients log in with an account; under TLS, or on loopback."
    )
    allow: list[Allowed] = Field(
        default=[ipaddress.ip_network("127.0.0.0/8"), ipaddress.ip_network("::1")],
        description="Networks whose clients may submit mail; others get `550 5.7.1`. A Unix socket takes all users.",
    )
    open_relay: Literal["no", "yes, I mean it"] = Field(
        default="no",
        description="Whether `allow` may name everybody: whoever finds such a listener sends mail in your name.",
    )
    max_size: Size = Field(default=35 * 1024**2, description="Largest message, in octets (SIZE, RFC 1870).")
    max_header: Size = Field(
        default=256 * 1024,
        ge=16 * 1024,
        description="Longest header of a message, in octets; a longer one is refused.",
    )
    strict: bool = Field(
        default=False,
        description="Refuse commands that are slightly off, and content that must be mended before it may leave: lines "
        "of over 998 octets, NUL, text that does not say what it is, on a Unix socket a CR or LF on its own.",
    )
    max_recipients: int = Field(default=1000, ge=100, description="Recipients of one message (RFC 9422 RCPTMAX).")
    max_messages: int = Field(default=0, ge=0, description="Messages of one session (RFC 9422 MAILMAX); 0: any number.")
    pace: PaceOf | None = Field(
        default=None,
        description="At most so many messages from one client, as in `10/s`; it waits, up to `longest_wait`.",
    )
    priority: PriorityName = Field(
        default="normal",
        description='How urgent its messages are, where nothing else says so: `"urgent"`, `"normal"` or `"bulk"`. In a '
        "lane, senders take turns; an urgent message comes before most others, bulk mail after them.",
    )
    choose_priority: bool = Field(
        default=False, description="Whether programs may say themselves how urgent a message is (MT-PRIORITY)."
    )
    patience: int = Field(default=50, ge=5, description="Bad or idle commands between two messages.")
    longest: Duration = Field(default=86400.0, ge=60, description="How long a session lasts; it ends between messages.")
    idle: Duration = Field(default=300.0, ge=10, description="Silence, or a trickle, before a session is ended.")
    enabled: bool = Field(default=True, description="Whether it listens at all.")


class Account(Table):
    """`[[account]]`: a program's login on listeners. What is kept of its password is in `accounts.toml`."""

    name: AccountName = Field(description="Its login.")
    senders: list[Pattern] = Field(
        default=[], description="Whom it may send as: by the reverse-path, and by From and Sender. Empty: anybody."
    )
    recipients: list[Pattern] = Field(default=["*"], min_length=1, description="Whom it may send to.")
    networks: list[Allowed] = Field(default=[], description="Where it may log in from. Empty: anywhere.")
    allowance: list[AllowanceOf] = Field(
        default=[], description="How many recipients it may submit in a period; more are put off with `450`."
    )
    pace: PaceOf | None = Field(
        default=None, description="At most so many of its messages, as in `10/s`; it waits, up to `longest_wait`."
    )
    priority: PriorityName | None = Field(
        default=None, description="How urgent its messages are, whatever `[[priority]]` or the program itself says."
    )
    enabled: bool = Field(default=True, description="Whether it may log in.")

    _one_allowance = field_validator("allowance", mode="before")(in_a_list)


class PriorityRule(Table):
    """`[[priority]]`: how urgent the mail of some senders is. The first that fits counts."""

    senders: list[Pattern] = Field(min_length=1, description="Whose mail, by the reverse-path; patterns as elsewhere.")
    priority: PriorityName = Field(description='`"urgent"`, `"normal"` or `"bulk"`.')


class Guard(Table):
    """`[guard]`: limits a faulty or hijacked program. It watches each sender by itself: an account, a local user, an
    address."""

    allowance: list[AllowanceOf] = Field(default=[], description="How many recipients each may submit in a period.")
    surge: float | None = Field(
        default=None,
        ge=1,
        description="Put off what is more than so many times the sender's busiest hour of two weeks, and tell the "
        "postmaster.",
    )
    at_least: int = Field(default=200, ge=1, description="With `surge`: what each may submit in any hour.")

    _one_allowance = field_validator("allowance", mode="before")(in_a_list)


class Connector(Table):
    """`[[connector]]`: which recipients it carries, and how they leave."""

    name: Name = Field(description="Its name in stories and tables.")
    recipients: list[Pattern] = Field(
        default=["*"],
        min_length=1,
        description='Whom it carries: `"*"`, `"port.example"`, `"*.port.example"`, `"a@port.example"`; closest wins.',
    )
    senders: list[Pattern] = Field(
        default=["*"], min_length=1, description="Whose mail it carries, by the reverse-path; patterns as above."
    )
    preference: int = Field(default=20, description="Rank among connectors that fit as closely; the lower is taken.")
    hosts: list[str] = Field(
        default=[],
        max_length=20,
        description="The smart hosts, `name:port`, in order: the next one when one is unreachable. Without a port 587, "
        "with implicit TLS 465, opportunistic or without TLS 25. Needed, unless `mx` is set.",
    )
    mx: bool = Field(
        default=False, description="Without a smart host: straight to the mail exchangers of each recipient's domain."
    )
    port: int = Field(default=25, ge=1, le=65535, description="The port of mail exchangers, with `mx`.")
    policy: Literal["auto", "dane", "off"] = Field(
        default="auto",
        description='Whether what a next hop publishes decides about TLS: `"auto"`: with `mx`, DANE (RFC 7672) and '
        'MTA-STS (RFC 8461), with `hosts` nothing; `"dane"`: only that, also with `hosts`; `"off"`. It demands more '
        "than `tls` does, and never less.",
    )
    policy_port: int = Field(
        default=443, ge=1, le=65535, description="The port of policy hosts (MTA-STS); another one for trials."
    )
    spread: bool = Field(default=False, description="Spread sessions over `hosts` by chance, and not in their order.")
    tls: Literal["implicit", "starttls", "opportunistic", "off"] = Field(
        default="starttls",
        description='`"implicit"` (RFC 8314), `"starttls"` (RFC 3207; demanded, not hoped for), `"opportunistic"` '
        '(RFC 7435: as far as it goes, unverified, never with a login) or `"off"`.',
    )
    trust: str = Field(
        default="system",
        description='`"system"`; a PEM file of authorities, or a folder of them, to trust instead; or the certificate '
        'itself, as `"sha256:…"` (several with blanks between).',
    )
    certificate: str | None = Field(default=None, description="PEM file of our own certificate, if it is asked for.")
    key: str | None = Field(default=None, description="PEM file of its key.")
    ciphers: str = Field(default="", description="Ciphers of TLS 1.2 to narrow it to, in OpenSSL's notation.")
    credential: str | None = Field(default=None, description="The credential to log in with; under verified TLS alone.")
    mechanisms: list[Sasl] = Field(
        default=[], description="The kinds of login that may be taken; the strongest one offered is. Empty: any."
    )
    max_iterations: int = Field(
        default=1_000_000,
        ge=4096,
        le=100_000_000,
        description="How often a smart host may have SCRAM hash the password; a login that asks for more is given up.",
    )
    login_in_clear: bool = Field(
        default=False, description="Log in without TLS, or without knowing to whom: whoever listens has the password."
    )
    long_lines: Literal["encode", "pass", "refuse"] = Field(
        default="encode",
        description='Messages with lines of over 998 octets, or NUL: `"encode"` what has them (RFC 2045 6), `"pass"` '
        'them as they are, or `"refuse"` them. Signed and encrypted parts are never changed.',
    )
    sign: bool | Literal["auto"] = Field(
        default="auto",
        description='Whether mail leaves signed (DKIM): `"auto"` where `[[signing]]` has a key for the domain of From; '
        "`true`: mail without such a key waits; `false`: never, as where the smart host signs.",
    )
    sender: str = Field(
        default="",
        description="The address that mail leaves under where the smart host takes only certain senders: as the "
        "reverse-path and in From. Answers still go to whom it is from, by Reply-To.",
    )
    sender_keeps: list[Pattern] = Field(
        default=[], description="With `sender`: the senders that stay as they are; patterns as above."
    )
    spf: str = Field(
        default="",
        description="What SPF records name the smart host by, as its provider says: `include:…`, or `ip4:…`; for "
        "`kite domain`.",
    )
    allowance: list[AllowanceOf] = Field(
        default=[],
        description="How many recipients may leave in a period; the rest waits for the next one.",
    )
    pace: PaceOf | None = Field(default=None, description="At most so many messages in a time, as in `10/s`, `30/m`.")
    max_size: Size | None = Field(default=None, description="Larger messages fail at once (5.3.4), without an attempt.")
    sessions: int = Field(default=10, ge=1, le=100, description="Sessions with the smart host at a time, at most.")
    enabled: bool = Field(default=True, description="Whether it carries anything; else it is passed over.")

    _sender = field_validator("sender")(check_address_or_none)

    _one_allowance = field_validator("allowance", mode="before")(in_a_list)

    @field_validator("hosts")
    @classmethod
    def _hosts(cls, value: list[str]) -> list[str]:
        for host in value:
            parse_endpoint(host, default_port=25)
        return value

    @property
    def next_hop(self) -> Endpoint:
        """The first smart host; without a port it gets the one that its TLS mode has by convention."""
        return self.next_hops[0]

    @property
    def where(self) -> str:
        """The destination, for people."""
        return "MX" if self.mx else ", ".join(map(str, self.next_hops))

    @property
    def next_hops(self) -> list[Endpoint]:
        """All smart hosts, in order; with `mx`, one without a name."""
        if not self.hosts:
            return [Endpoint("", self.port)]
        return [parse_endpoint(host, default_port=DEFAULT_PORTS[self.tls]) for host in self.hosts]


class Retry(Table):
    """`[retry]`: when a delayed recipient is tried again. The last wait repeats until the lifetime is over."""

    waits: list[Duration] = Field(
        default=[60.0, 300.0, 900.0, 1800.0, 3600.0],
        min_length=1,
        description="Waits between attempts; the last repeats.",
    )
    lifetime: Duration = Field(default=5 * 86400.0, description="How long it is tried; then it fails.")
    notice_after: Duration = Field(
        default=4 * 3600.0, description="When the sender is told, once, that a message is late."
    )
    keep_failed: Duration = Field(
        default=7 * 86400.0, ge=0, description="How long a failed message can be looked at and tried again."
    )
    notice_copy: str = Field(
        default="",
        description="An address that gets a copy of each notice of failure, also where nobody else is told.",
    )

    _notice_copy = field_validator("notice_copy")(check_address_or_none)


class Settings(Table):
    """The whole file."""

    server: Server = Server()
    identity: Identity = Identity()
    listener: list[Listener] = Field(default=[])
    account: list[Account] = Field(default=[])
    connector: list[Connector] = Field(default=[])
    signing: list[Signing] = Field(default=[])
    priority: list[PriorityRule] = Field(default=[])
    retry: Retry = Retry()
    guard: Guard = Guard()
    log: Log = Log()
    journal: Journal = Journal()
    metrics: Metrics = Metrics()
    alarm: list[Alarm] = Field(default=[])
    report: ReportSettings = ReportSettings()
    domain: DomainSettings = DomainSettings()
    accepted: list[Accepted] = Field(default=[])
    tls_reports: TlsReports = TlsReports()
    other_log: list[OtherLog] = Field(default=[])


def data_folder(settings: Settings, base: Path) -> Path:
    """Where the queue is; a relative path counts from the configuration's folder."""
    return base / settings.server.data


def model_of(table: str) -> type[BaseModel]:
    """The model of a table of the file, by its name there. Raises KeyError."""
    annotation = Settings.model_fields[table].annotation
    (model,) = get_args(annotation) or (annotation,)
    return cast("type[BaseModel]", model)
