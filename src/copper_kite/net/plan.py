"""How to connect to a next hop: its address, TLS, login, and the timeout of each stage."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

from copper_kite.net.demand import Demand
from copper_kite.settings import Credential, Endpoint, OAuthClient
from copper_kite.smtp import Secret

__all__ = ["Plan", "Timeouts"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Timeouts:
    """Bounds in seconds, by stage (RFC 5321 4.5.3.2); TCP and TLS have none there."""

    resolve: float = 60.0
    connect: float = 60.0
    secure: float = 60.0
    greet: float = 300.0
    command: float = 300.0
    data: float = 120.0
    block: float = 180.0
    accept: float = 600.0
    quit: float = 5.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Plan:
    """How to reach a next hop and what to demand of it. `tls`: implicit, starttls or off.

    With `path`, a Unix socket is meant, and `host` is only what it is called; with `address`, only this one of the
    host's. `trust` is as in `tls.client_context`.
    """

    host: str
    port: int
    path: str = ""
    address: str = ""
    name: str  # what we call ourselves
    tls: str = "starttls"
    dns: str = "system"  # how names are looked up: see `resolve`
    trust: str = "system"
    certificate: str = ""  # the file of our own certificate, for next hops that ask for one
    key: str = ""
    ciphers: str = ""
    login: str = ""
    password: Secret | None = None
    token: Secret | None = None
    password_command: str = ""
    token_command: str = ""
    oauth: OAuthClient | None = None  # what gets tokens
    policy_port: int = 443  # of policy hosts (MTA-STS)
    data: str = ""  # the folder in which tokens are kept
    mechanisms: tuple[str, ...] = ()  # those that may be taken; empty for any
    max_iterations: int = 1_000_000  # of SCRAM, that a server may ask for
    login_in_clear: bool = False
    timeouts: Timeouts = field(default_factory=Timeouts)
    demand: Demand | None = None  # of the policy of the next hop, if it has one
    fallback: Plan | None = None  # for where what is demanded fails and is only for trial

    @property
    def where(self) -> str:
        """As people and commands name it: `host:port`, `[address]:port` or `unix:/path`."""
        return str(Endpoint(self.host, self.port, self.path))

    @property
    def server_name(self) -> str:
        """The name that TLS is for (RFC 6066 3); under DANE that of the TLSA records (RFC 7672 8.1)."""
        return self.demand.names[0] if self.demand is not None and self.demand.names else self.host

    def logging_in_as(self, credential: Credential) -> Plan:
        """The same plan with this login and its secrets in place of any other."""
        return replace(
            self,
            login=credential.login,
            password=credential.password,
            token=credential.token,
            password_command=credential.password_command,
            token_command=credential.token_command,
            oauth=credential.oauth,
        )
