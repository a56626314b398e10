"""The vocabulary that all packages share: stages, sides, states and causes.

They stand at the bottom of the house, beside `errors`, so that the protocol, the store and the command line
say the same thing in the same way.
"""

from __future__ import annotations

from enum import Flag, StrEnum, auto

__all__ = [
    "FINAL",
    "MESSAGE_STAGES",
    "OPEN",
    "Action",
    "Cause",
    "CauseKind",
    "Event",
    "Priority",
    "Side",
    "Stage",
    "State",
]


class Stage(StrEnum):
    """The stages of a session."""

    RESOLVE = "resolve"
    CONNECT = "connect"
    GREET = "greet"
    HELLO = "hello"
    SECURE = "secure"
    LOGIN = "login"
    SENDER = "sender"
    RECIPIENT = "recipient"
    CONTENT = "content"
    ACCEPT = "accept"
    QUIT = "quit"


# From MAIL to the end of the content: what is refused here is the message, not the session.
MESSAGE_STAGES = frozenset({Stage.SENDER, Stage.RECIPIENT, Stage.CONTENT, Stage.ACCEPT})


class Side(StrEnum):
    """The side that stopped a message."""

    HERE = "here"
    PATH = "path"
    NEXT_HOP = "next hop"
    BEYOND = "beyond"


class State(StrEnum):
    """The state of one recipient of one message; `delayed`, `relayed`, `failed` are action words of RFC 3464 2.3.3."""

    QUEUED = "queued"
    DELAYED = "delayed"
    PARKED = "parked"
    RELAYED = "relayed"
    FAILED = "failed"
    REMOVED = "removed"


FINAL = frozenset({State.RELAYED, State.FAILED, State.REMOVED})
OPEN = (State.QUEUED, State.DELAYED, State.PARKED)


class Event(StrEnum):
    """The events of the journal besides submissions and attempts, which are records of their own."""

    STARTED = "started"
    STOPPED = "stopped"
    RELOADED = "reloaded"  # another configuration was taken up
    ROUTES = "routes"  # which connectors carry whom from now on
    REFUSED = "refused"  # submissions that were not taken
    ORDERED = "ordered"  # an administrator had something done
    REMARK = "remark"  # what is odd about a submission, or was mended in it
    DIALOGUE = "dialogue"  # of a submission's session, kept since an administrator wanted it
    TAKEN_UP = "taken up"  # a program had left it in the drop folder
    RESCUED = "rescued"  # the queue was made anew from what could be read of a damaged one
    CLOCK = "clock"  # the machine's clock was set
    DOWN = "down"  # a next hop of a connector is unreachable
    BACK = "back"  # it is reachable again
    CERTIFICATE = "certificate"  # a next hop showed one that it had not shown lately
    ALARM = "alarm"  # an administrator was told of something
    SURGE = "surge"  # a sender is slowed down, since it sends far more than it ever did
    REPORTED = "reported"  # a report was sent that was due
    TLS_REPORTED = "TLS reported"  # another domain was told how TLS with its hosts went
    NOTICE = "notice"  # the sender was told of a failure
    ABOUT = "about"  # this message is a notice about that one
    BEYOND = "beyond"  # a notice from elsewhere told what became of it


# What becomes of recipients, as counts and logs name it.
OUTCOMES = ("accepted", "relayed", "delayed", "failed", "refused")


class Priority(StrEnum):
    """The urgency of a message among those of its lane."""

    URGENT = "urgent"
    NORMAL = "normal"
    BULK = "bulk"

    @classmethod
    def of(cls, value: int) -> Priority:
        """The class of a priority from -9 to 9 (RFC 6710)."""
        return _NORMAL if not value else _URGENT if value > 0 else _BULK


# Names of a module are found faster than members of a class, and this is asked for every message.
_URGENT, _NORMAL, _BULK = Priority.URGENT, Priority.NORMAL, Priority.BULK


class Action(StrEnum):
    """The actions of an administrator; all but the last two are on a recipient in the queue."""

    RETRY = "retry"
    PARK = "park"
    RELEASE = "release"
    REMOVE = "remove"
    RETURN = "return"  # it fails now, and its sender is told
    SEND_BY = "send by"  # another connector carries it
    SEND_TO = "send to"  # another recipient gets it
    RETRY_CONNECTOR = "retry connector"  # of all that waits for a connector
    TEST_ALARM = "test alarm"  # send a test event of an alarm


class CauseKind(Flag):
    """The consequences of a cause."""

    NONE = 0
    FINAL = auto()  # no use in trying again, nor through another connector: a domain or an administrator says so
    BROKEN = auto()  # the session broke in the middle, whichever message it carried
    UNATTRIBUTABLE = auto()  # nobody knows which reply was too many, or did not come
    BEFORE = auto()  # it is known before anything is sent, so that the reply that is told is our own
    TLS = auto()  # TLS did not come about, whatever the certificate
    CERTIFICATE = auto()  # the next hop shows a certificate that is not believed


_FINAL, _BEFORE, _TLS, _CERTIFICATE = CauseKind.FINAL, CauseKind.BEFORE, CauseKind.TLS, CauseKind.CERTIFICATE
_BROKEN = CauseKind.BROKEN
_ASTRAY = CauseKind.BROKEN | CauseKind.UNATTRIBUTABLE


class Cause(StrEnum):
    """Why an attempt ended where it did (`reply`: the reply itself says it), and by `kind` what follows from it."""

    kind: CauseKind

    def __new__(cls, value: str, kind: CauseKind = CauseKind.NONE) -> Cause:
        """A member with its kind."""
        cause = str.__new__(cls, value)
        cause._value_ = value
        cause.kind = kind
        return cause

    @property
    def final(self) -> bool:
        """Whether there is no use in trying again."""
        return CauseKind.FINAL in self.kind

    @property
    def broke_session(self) -> bool:
        """Whether the session broke, whichever message it carried."""
        return CauseKind.BROKEN in self.kind

    @property
    def about_certificate(self) -> bool:
        """Whether a certificate was not believed."""
        return CauseKind.CERTIFICATE in self.kind

    REPLY = "reply"
    INTERNAL = "our own fault"
    NO_CONNECTOR = "no connector"
    RETURNED = "returned by hand", _FINAL
    ALLOWANCE_USED = "allowance used"
    NAME_NOT_FOUND = "name not found"
    DOMAIN_NOT_FOUND = "domain not found", _FINAL
    NULL_MX = "domain takes no mail", _FINAL
    MAIL_LOOP = "mail loops to itself", _FINAL
    NAME_LOOKUP_FAILED = "name lookup failed"
    CONNECTION_REFUSED = "connection refused"
    CONNECTION_TIMED_OUT = "connection timed out"
    UNREACHABLE = "unreachable"
    LOST = "connection lost", _BROKEN
    TIMED_OUT = "timed out", _ASTRAY
    UNFINISHED = "reply never ended", _ASTRAY
    PROTOCOL = "protocol error", _ASTRAY
    OUT_OF_STEP = "out of step", _ASTRAY
    SPEAKS_TLS = "TLS at once"
    SPEAKS_CLEAR = "no TLS at once"
    TLS_NOT_OFFERED = "TLS not offered", _BEFORE
    TLS_REFUSED = "TLS refused"
    TLS_VERSION = "no common TLS version", _TLS
    TLS_CIPHER = "no common cipher", _TLS
    TLS_CLIENT_CERTIFICATE = "client certificate wanted", _TLS
    TLS_FAILED = "TLS handshake failed", _TLS
    TRUST_UNUSABLE = "trust cannot be used", _TLS
    CERTIFICATE_UNTRUSTED = "certificate not trusted", _CERTIFICATE
    CERTIFICATE_INCOMPLETE = "certificate without its issuer", _CERTIFICATE
    CERTIFICATE_PURPOSE = "certificate for another purpose", _CERTIFICATE
    CERTIFICATE_SELF_SIGNED = "certificate self-signed", _CERTIFICATE
    CERTIFICATE_EXPIRED = "certificate out of date", _CERTIFICATE
    CERTIFICATE_NOT_YET_VALID = "certificate not yet valid", _CERTIFICATE
    CERTIFICATE_WRONG_NAME = "certificate for another name", _CERTIFICATE
    CERTIFICATE_WEAK = "certificate too weak", _CERTIFICATE
    DANE_MISMATCH = "certificate against its TLSA records", _CERTIFICATE
    DANE_UNKNOWN = "TLSA records not told"
    STS_NO_HOST = "no host that MTA-STS allows"
    CERTIFICATE_NOT_PINNED = "certificate not pinned", _CERTIFICATE
    LOGIN_IN_CLEAR = "login in clear"
    LOGIN_NOT_OFFERED = "login not offered"
    LOGIN_UNPROVEN = "login not proven"
    SECRET_UNAVAILABLE = "secret unavailable"
    TOKEN_REFUSED = "no new token"
    TOKEN_UNAVAILABLE = "token server does not answer"
    TOKEN_NOT_TAKEN = "token not taken"
    TOO_LARGE = "too large", _BEFORE
    OVER_OWN_LIMIT = "over our own limit", _BEFORE
    SIGNING_FAILED = "signing key cannot be used"
    NO_SIGNING_KEY = "no signing key"
    CONTENT_UNREADABLE = "content cannot be read"
    LONG_LINES = "long lines", _BEFORE
    NEEDS_8BITMIME = "needs 8BITMIME", _BEFORE
    NEEDS_SMTPUTF8 = "needs SMTPUTF8", _BEFORE
    NEEDS_REQUIRETLS = "needs REQUIRETLS"
