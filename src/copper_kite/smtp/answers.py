"""The default replies of the server, and the refusals that need no decision."""

from __future__ import annotations

import base64

from copper_kite.smtp.content import Fault
from copper_kite.smtp.order import Step
from copper_kite.smtp.replies import Reply

__all__ = [
    "ANSWER_TOO_LONG",
    "BAD_ORDER",
    "BAD_PARAMETER",
    "BAD_SYNTAX",
    "CHUNK_TAKEN",
    "DEFAULT_ANSWERS",
    "FAULT_REPLIES",
    "GIVEN_UP",
    "HELP",
    "LINE_TOO_LONG",
    "NEEDS_UTF8",
    "NOT_VERIFIED",
    "NO_ARGUMENT",
    "OK",
    "OUT_OF_LOGINS",
    "OUT_OF_PATIENCE",
    "TLS_FIRST",
    "TOO_LARGE",
    "TOO_MANY_MESSAGES",
    "TOO_MANY_RECIPIENTS",
    "UNAVAILABLE",
    "UNKNOWN",
    "UNKNOWN_PARAMETER",
    "challenge",
]

BAD_ORDER = Reply(503, "5.5.1", "not now: the order is EHLO, MAIL, RCPT, DATA")
BAD_SYNTAX = Reply(500, "5.5.2", "not a command line")
UNKNOWN = Reply(500, "5.5.1", "no such command")
UNAVAILABLE = Reply(502, "5.5.1", "not here")
LINE_TOO_LONG = Reply(500, "5.5.2", "the line is too long")
ANSWER_TOO_LONG = Reply(500, "5.5.6", "the answer is too long")
NO_ARGUMENT = Reply(501, "5.5.4", "this command takes no argument")
BAD_PARAMETER = Reply(501, "5.5.4", "bad parameter")
UNKNOWN_PARAMETER = Reply(555, "5.5.4", "this parameter is not offered here")
TLS_FIRST = Reply(530, "5.7.0", "begin TLS first")
TOO_MANY_MESSAGES = Reply(421, "4.7.0", "no more messages in this session; open another")
TOO_MANY_RECIPIENTS = Reply(452, "4.5.3", "too many recipients for one message")
NEEDS_UTF8 = Reply(553, "5.6.7", "a non-ASCII address needs SMTPUTF8")
OUT_OF_LOGINS = Reply(421, "4.7.0", "too many failed logins; closing")
OUT_OF_PATIENCE = Reply(421, "4.7.0", "too many commands to no purpose; closing")
TOO_LARGE = Reply(552, "5.3.4", "the message is larger than SIZE allows")

CHUNK_TAKEN = Reply(250, "2.0.0", "chunk taken")
OK = Reply(250, "2.0.0", "done")
HELP = Reply(214, "2.0.0", "EHLO HELO MAIL RCPT DATA RSET NOOP VRFY HELP QUIT (RFC 5321)")
NOT_VERIFIED = Reply(252, "2.1.0", "whether that address exists is not told here; mail for it is taken")
GIVEN_UP = Reply(501, "5.7.0", "login given up")


def challenge(data: bytes) -> bytes:
    """A 334 with what the client is to answer (RFC 4954 4)."""
    return b"334 " + base64.b64encode(data) + b"\r\n"


DEFAULT_ANSWERS: dict[Step, Reply] = {
    Step.MAIL: Reply(250, "2.1.0", "sender taken"),
    Step.RCPT: Reply(250, "2.1.5", "recipient taken"),
    Step.DATA: Reply(354, "", "go on, end with a line of one dot"),
    Step.END: Reply(250, "2.0.0", "taken"),
    Step.LOGIN_ENDED: Reply(235, "2.7.0", "logged in"),
    Step.SECURE: Reply(220, "2.0.0", "begin TLS"),
}

FAULT_REPLIES = {
    Fault.BARE_LINE_END: Reply(550, "5.6.0", "the message holds a CR or LF on its own; lines end with CR LF"),
    Fault.NUL: Reply(554, "5.6.0", "the message holds a NUL octet"),
    Fault.LONG_LINE: Reply(554, "5.6.0", "the message holds a line of over 998 octets"),
    Fault.TOO_LARGE: TOO_LARGE,
}
