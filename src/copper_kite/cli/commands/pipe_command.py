"""`kite pipe` at work. Nothing slow is imported here: scripts start it for every message.

Its short options are those that ISO/IEC 23360-1 (the Linux Standard Base) gives to the utility that programs hand their
mail to, so that they can call it unchanged.
"""

from __future__ import annotations

import os
import re
import sys
import time
from collections.abc import Sequence
from typing import TYPE_CHECKING

from copper_kite.errors import HandOverFailed, InputError, KiteError

if TYPE_CHECKING:
    from copper_kite.session import Parcel
    from copper_kite.settings import Sketch

__all__ = ["hand_in", "local_user"]

EX_USAGE, EX_DATAERR, EX_TEMPFAIL = 64, 65, 75  # as the system's sysexits.h has them
TAKES_VALUE = {"-f": "sender", "-F": "full_name", "--from": "sender", "--socket": "socket",
               "--notify": "notify", "--return": "ret", "--envelope-id": "envelope_id"}  # fmt: skip
MODES = {"-bm": "message", "-bp": "list", "-bs": "session"}
TAKEN = ("-oem", "-oep", "-odb", "-odf", "-om")  # no matter here
# What else programs pass, for what is not done here: that is no reason to lose their mail.
_IGNORED = re.compile(r"-(?:[A-Za-z]|[oNRBOqV].+)")
_HAS_VALUE = ("-N", "-R", "-B", "-O", "-V")  # which may stand in the next word


class Order:
    """The parsed command line. `from_header`: the recipients are also those that the header names."""

    def __init__(self) -> None:
        self.recipients: list[str] = []
        self.mode = "message"
        self.sender = self.full_name = self.socket = ""
        self.notify = self.ret = self.envelope_id = ""
        self.from_header = self.ends_at_dot = self.standard = self.quiet = False
        self.ignored: list[str] = []  # options without a meaning here


def hand_in(words: Sequence[str], config: str | None) -> int:
    """Do what `kite pipe` with these words does; the exit status."""
    quiet = False
    try:
        order = _read(words)
        quiet = order.quiet
        if order.ignored:
            _note_ignored(order.ignored)
        _do(order, config)
    except InputError as error:
        return _leave(str(error), EX_USAGE if error.usage else EX_DATAERR, quiet)
    except HandOverFailed as error:
        return _leave(str(error), EX_TEMPFAIL if error.temporary else EX_DATAERR, quiet)
    except KiteError as error:
        return _leave(str(error), EX_TEMPFAIL, quiet)
    except Exception as error:
        if os.environ.get("KITE_TRACEBACK"):
            raise
        from copper_kite.cli.main import words_of_fault

        return _leave(words_of_fault(error), EX_TEMPFAIL, quiet)  # a caller that can keeps the message
    except KeyboardInterrupt:
        return _leave("interrupted before the server confirmed the message", EX_TEMPFAIL, quiet)
    return 0


def _note_ignored(options: Sequence[str]) -> None:
    """Log ignored options to syslog, where an administrator finds them and no program is disturbed."""
    import syslog

    syslog.openlog("kite", syslog.LOG_PID, syslog.LOG_MAIL)
    syslog.syslog(syslog.LOG_INFO, f"pipe: options without a meaning here: {' '.join(options)!r}")


def _leave(message: str, status: int, quiet: bool) -> int:
    if not quiet:
        print(f"kite pipe: {message}", file=sys.stderr)  # noqa: T201
    return status


# --- the command line -------------------------------------------------------------------------------------------------


def _read(words: Sequence[str]) -> Order:
    """Options and recipients. Raises InputError."""
    order, left = Order(), list(words)
    undotted = False
    while left:
        word = left.pop(0)
        if word == "--":
            order.recipients += left
            break
        if not word.startswith("-") or word == "-":
            order.recipients.append(word)
        elif word in MODES:
            order.mode = MODES[word]
        elif word == "-t":
            order.from_header = True
        elif word in ("-i", "-oi"):
            undotted = True
        elif word == "--as-standard":
            order.standard = True
        elif word == "-oeq":
            order.quiet = True
        elif word[:2] in TAKES_VALUE or word.startswith("--"):
            _read_value(order, word, left)
        elif word not in TAKEN:
            _ignore(order, word, left)
    order.ends_at_dot = order.standard and not undotted
    return order


def _ignore(order: Order, word: str, left: list[str]) -> None:
    """An option that has no meaning here. Raises InputError for what is no such option."""
    if _IGNORED.fullmatch(word) is None:
        raise InputError(f"no option {word}; `kite pipe --help` lists them", usage=True)
    if word in _HAS_VALUE and left and "@" not in left[0] and not left[0].startswith("-"):
        word = f"{word} {left.pop(0)}"
    order.ignored.append(word)


def _read_value(order: Order, word: str, left: list[str]) -> None:
    """An option with a value: in the next word, after `=`, or, for a short one, at once."""
    name, equals, value = word.partition("=") if word.startswith("--") else (word[:2], word[2:], word[2:])
    if name not in TAKES_VALUE:
        raise InputError(f"no option {word}; `kite pipe --help` lists them", usage=True)
    if not equals:
        if not left:
            raise InputError(f"{name} needs a value", usage=True)
        value = left.pop(0)
    setattr(order, TAKES_VALUE[name], value)


# --- the work ---------------------------------------------------------------------------------------------------------


def _do(order: Order, config: str | None) -> None:
    if order.mode == "list":
        from copper_kite.cli.main import run_command_line

        run_command_line([*(["--config", config] if config else []), "queue", "list"])
        return
    from copper_kite.settings import find_file, sketch

    known = sketch(find_file(config))
    path = order.socket or submission_socket(known)
    if order.mode == "session":
        from copper_kite.session import pass_through

        pass_through(path, sys.stdin.fileno(), sys.stdout.fileno())
        return
    if not order.recipients and not order.from_header:
        raise InputError("name at least one recipient", usage=True)
    octets = _message(sys.stdin.buffer.read(), ends_at_dot=order.ends_at_dot) if sys.stdin is not None else b""
    if not octets.strip():
        raise InputError("there is nothing on standard input")
    from copper_kite.routing import Outward

    user = local_user()
    author = Outward(known, known.server_name).sender(user) or f"{user}@{known.server_name}"
    sender = "" if order.sender == "<>" else order.sender or author
    _submit(order, path, known, sender, octets, author=author)


def submission_socket(known: Sketch) -> str:
    """The path of the first Unix socket that takes mail. Raises InputError."""
    path = next(iter(known.sockets), "")
    if not path:
        raise InputError('no listener has a Unix socket; add "unix:/run/copper-kite/submit.sock" to bind', usage=True)
    return path


def _submit(order: Order, path: str, known: Sketch, sender: str, octets: bytes, *, author: str) -> None:
    """Submit it, or leave it in the drop folder; `author` is the default for From."""
    server = known.server_name
    from copper_kite.mail import mend_message
    from copper_kite.session import Parcel, hand_over

    recipients = list(order.recipients)
    if order.from_header:
        recipients += _named_in(octets)
        if not recipients:
            raise InputError("the message names nobody in To, Cc or Bcc")
    _check_addresses([*([sender] if sender else []), *recipients])
    message_id = f"{time.time_ns():x}.{os.getpid()}.{os.urandom(4).hex()}@{server}"
    content = mend_message(
        octets, sender=sender or author, message_id=message_id, at=time.time(), full_name=order.full_name
    )
    asked, each = _wishes(order)
    parcel = Parcel(sender, list(dict.fromkeys(recipients)), content, asked, each)
    try:
        hand_over(path, server, parcel)
    except HandOverFailed as error:
        if not error.temporary:
            raise
        _leave_in_drop_folder(known, parcel, error)


def _leave_in_drop_folder(known: Sketch, parcel: Parcel, error: HandOverFailed) -> None:
    """Keep the message in the drop folder until the server takes it. Raises HandOverFailed, InputError."""
    from copper_kite.routing import Outward
    from copper_kite.session import leave_message

    outward = Outward(known, known.server_name)
    for address in parcel.recipients:
        if outward.recipient(address) is None:  # what nobody could be told of later is told now
            raise InputError(f"501 5.1.3 {address!r} is no address that mail can leave for")
    try:
        leave_message(known.drop, parcel)
    except HandOverFailed as problem:
        raise HandOverFailed(f"{error}; {problem}", temporary=True) from problem


def _wishes(order: Order) -> tuple[str, str]:
    """The DSN parameters of MAIL and RCPT (RFC 3461). Raises InputError."""
    if not (order.ret or order.envelope_id or order.notify):
        return "", ""
    from copper_kite.smtp import MAIL_PARAMETERS, RCPT_PARAMETERS

    ret = {"headers": "HDRS", "hdrs": "HDRS", "full": "FULL"}.get(order.ret.lower(), order.ret)
    given = {"RET": ret, "ENVID": order.envelope_id}
    for key, value in given.items():
        if value and not MAIL_PARAMETERS[key].fits(value):
            raise InputError(f"{value!r} cannot be asked for as {key} (RFC 3461 4)", usage=True)
    if order.notify and not RCPT_PARAMETERS["NOTIFY"].fits(order.notify):
        raise InputError(f"{order.notify!r}: write never, or some of success,failure,delay", usage=True)
    asked = " ".join(f"{key}={value}" for key, value in given.items() if value)
    return asked, f"NOTIFY={order.notify.upper()}" if order.notify else ""


def _message(octets: bytes, *, ends_at_dot: bool) -> bytes:
    """The message in the input: up to a line with only a dot, where that ends it."""
    if not ends_at_dot:
        return octets
    if octets.startswith((b".\n", b".\r\n")):
        return b""
    for end in (b"\n.\n", b"\n.\r\n"):
        octets = octets.partition(end)[0] + b"\n" if end in octets else octets
    return octets[:-1] if octets.endswith(b"\n.") else octets


def _named_in(octets: bytes) -> list[str]:
    """The addresses in To, Cc and Bcc; in the Resent- fields, where there are such (RFC 5322 3.6.6)."""
    from email.utils import getaddresses

    from copper_kite.mail import all_values, normalise_line_ends, scan_header

    header = scan_header(normalise_line_ends(octets))
    names = (b"To", b"Cc", b"Bcc")
    again = [b"Resent-" + name for name in names]
    values = all_values(header, again if any(name in header for name in again) else names)
    return [address for _, address in getaddresses(values) if address]


def _check_addresses(addresses: Sequence[str]) -> None:
    """Refuse what could break out of its command before anything is sent (W-16). Raises InputError."""
    for address in addresses:
        if not address.isprintable() or not address or any(char in address for char in "<> "):
            raise InputError(f"{address!r} is not an address", usage=True)


def local_user() -> str:
    """The calling user, also without an entry among the users."""
    import pwd

    try:
        return pwd.getpwuid(os.getuid()).pw_name
    except KeyError:
        return f"uid{os.getuid()}"
