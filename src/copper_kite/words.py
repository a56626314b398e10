"""The words that every part of the product speaks in: stages, sides, states and causes.

They stand at the bottom of the house, beside `errors`, so that the protocol, the store and the command line
say the same thing in the same way.
"""

from __future__ import annotations

from enum import StrEnum

__all__ = [
    "BROKEN_CAUSES",
    "CERTIFICATE_CAUSES",
    "FINAL",
    "FINAL_CAUSES",
    "MESSAGE_STAGES",
    "OPEN",
    "TLS_CAUSES",
    "Action",
    "Cause",
    "Event",
    "Priority",
    "Side",
    "Stage",
    "State",
]


class Stage(StrEnum):
    """How far a session got."""

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
    """Who stopped it."""

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
    """What the journal records beside submissions and attempts, which are records of their own."""

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
    DOWN = "down"  # a next hop of a connector cannot be had
    BACK = "back"  # it can be had again
    ALARM = "alarm"  # a sender is slowed down, since it sends far more than it ever did
    NOTICE = "notice"  # the sender was told of a failure
    ABOUT = "about"  # this message is a notice about that one
    BEYOND = "beyond"  # a notice from elsewhere told what became of it


class Priority(StrEnum):
    """How urgent a message is, to those who share a lane with it."""

    URGENT = "urgent"
    NORMAL = "normal"
    BULK = "bulk"

    @classmethod
    def of(cls, value: int) -> Priority:
        """The class of a priority from -9 to 9 (RFC 6710)."""
        return cls.NORMAL if not value else cls.URGENT if value > 0 else cls.BULK


class Action(StrEnum):
    """What an administrator may want done with a recipient in the queue."""

    RETRY = "retry"
    PARK = "park"
    RELEASE = "release"
    REMOVE = "remove"
    RETURN = "return"  # it fails now, and its sender is told
    SEND_BY = "send by"  # another connector carries it
    SEND_TO = "send to"  # another recipient gets it
    RETRY_CONNECTOR = "retry connector"  # of all that waits for a connector


class Cause(StrEnum):
    """Why an attempt ended where it did; `reply` means that the reply itself says it."""

    REPLY = "reply"
    INTERNAL = "our own fault"
    NO_CONNECTOR = "no connector"
    RETURNED = "returned by hand"
    ALLOWANCE_USED = "allowance used"
    NAME_NOT_FOUND = "name not found"
    DOMAIN_NOT_FOUND = "domain not found"
    NULL_MX = "domain takes no mail"
    MAIL_LOOP = "mail loops to itself"
    NAME_LOOKUP_FAILED = "name lookup failed"
    CONNECTION_REFUSED = "connection refused"
    CONNECTION_TIMED_OUT = "connection timed out"
    UNREACHABLE = "unreachable"
    LOST = "connection lost"
    TIMED_OUT = "timed out"
    UNFINISHED = "reply never ended"
    PROTOCOL = "protocol error"
    OUT_OF_STEP = "out of step"
    SPEAKS_TLS = "TLS at once"
    SPEAKS_CLEAR = "no TLS at once"
    TLS_NOT_OFFERED = "TLS not offered"
    TLS_REFUSED = "TLS refused"
    TLS_VERSION = "no common TLS version"
    TLS_CIPHER = "no common cipher"
    TLS_CLIENT_CERTIFICATE = "client certificate wanted"
    TLS_FAILED = "TLS handshake failed"
    TRUST_UNUSABLE = "trust cannot be used"
    CERTIFICATE_UNTRUSTED = "certificate not trusted"
    CERTIFICATE_INCOMPLETE = "certificate without its issuer"
    CERTIFICATE_PURPOSE = "certificate for another purpose"
    CERTIFICATE_SELF_SIGNED = "certificate self-signed"
    CERTIFICATE_EXPIRED = "certificate out of date"
    CERTIFICATE_NOT_YET_VALID = "certificate not yet valid"
    CERTIFICATE_WRONG_NAME = "certificate for another name"
    CERTIFICATE_WEAK = "certificate too weak"
    CERTIFICATE_NOT_PINNED = "certificate not pinned"
    LOGIN_IN_CLEAR = "login in clear"
    LOGIN_NOT_OFFERED = "login not offered"
    LOGIN_UNPROVEN = "login not proven"
    SECRET_UNAVAILABLE = "secret unavailable"
    TOO_LARGE = "too large"
    OVER_OWN_LIMIT = "over our own limit"
    CONTENT_UNREADABLE = "content cannot be read"
    LONG_LINES = "long lines"
    NEEDS_8BITMIME = "needs 8BITMIME"
    NEEDS_SMTPUTF8 = "needs SMTPUTF8"
    NEEDS_REQUIRETLS = "needs REQUIRETLS"


# No use in trying again, and no connector's fault: what a recipient's domain says of itself, or an administrator.
FINAL_CAUSES = frozenset({Cause.DOMAIN_NOT_FOUND, Cause.NULL_MX, Cause.MAIL_LOOP, Cause.RETURNED})

# The session broke in the middle, whichever message it carried.
BROKEN_CAUSES = frozenset({Cause.LOST, Cause.TIMED_OUT, Cause.UNFINISHED, Cause.PROTOCOL, Cause.OUT_OF_STEP})

# TLS did not come about, whatever the certificate.
TLS_CAUSES = frozenset(
    {Cause.TLS_VERSION, Cause.TLS_CIPHER, Cause.TLS_CLIENT_CERTIFICATE, Cause.TLS_FAILED, Cause.TRUST_UNUSABLE}
)

# The next hop shows a certificate that is not believed.
CERTIFICATE_CAUSES = frozenset(cause for cause in Cause if cause.value.startswith("certificate "))
