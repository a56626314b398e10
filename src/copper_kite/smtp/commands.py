"""The arguments of MAIL, RCPT and BDAT, parsed and checked: an event, or the reply that refuses them."""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache

from copper_kite.smtp import events
from copper_kite.smtp.answers import BAD_PARAMETER, NEEDS_UTF8, TOO_LARGE, UNKNOWN_PARAMETER
from copper_kite.smtp.extensions import Offers
from copper_kite.smtp.grammar import (
    PLAIN_MAIL,
    BadParameter,
    CommandPath,
    Syntax,
    parse_command_path,
)
from copper_kite.smtp.parameters import MAIL_PARAMETERS, RCPT_PARAMETERS, Parameter, written
from copper_kite.smtp.replies import Reply

__all__ = ["plain_mail", "read_chunk", "read_mail", "read_rcpt"]


@lru_cache(maxsize=256)  # programs say the same line with every message; nobody changes an event
def plain_mail(line: bytes) -> events.MailFrom | None:
    """A whole MAIL line, with its CR LF, as nearly all clients write it; None for one that needs `read_mail`."""
    match = PLAIN_MAIL.fullmatch(line)
    if match is None:
        return None
    path, size = match.groups()
    return events.MailFrom(path.decode(), None if size is None else int(size), False, False)


def read_mail(argument: str, offers: Offers, max_size: int, *, secure: bool) -> events.MailFrom | Reply:
    """`FROM:<path> [parameters]`; `max_size` in octets, 0 for none."""
    command = _path_behind("FROM:", argument, "MAIL FROM:<address>", "5.1.7", "sender")
    if isinstance(command, Reply):
        return command
    given = command.parameters
    if (refusal := _misused(given, MAIL_PARAMETERS, offers, secure=secure, utf8="SMTPUTF8" in given)) is not None:
        return refusal
    size = int(given["SIZE"] or 0) if "SIZE" in given else None
    if max_size and size is not None and size > max_size:
        return TOO_LARGE
    utf8, eight_bit = "SMTPUTF8" in given, (given.get("BODY") or "").upper() == "8BITMIME"
    if not utf8 and not command.path.isascii():
        return NEEDS_UTF8
    return events.MailFrom(command.path, size, eight_bit, utf8, written(given, MAIL_PARAMETERS))


def read_rcpt(argument: str, offers: Offers, *, secure: bool, utf8: bool) -> events.RecipientTo | Reply:
    """`TO:<path> [parameters]`."""
    command = _path_behind("TO:", argument, "RCPT TO:<address>", "5.1.3", "recipient")
    if isinstance(command, Reply):
        return command
    if not command.path:
        return Reply(501, "5.1.3", "bad recipient: empty")
    if (refusal := _misused(command.parameters, RCPT_PARAMETERS, offers, secure=secure, utf8=utf8)) is not None:
        return refusal
    if not utf8 and not command.path.isascii():
        return NEEDS_UTF8
    return events.RecipientTo(command.path, written(command.parameters, RCPT_PARAMETERS))


def read_chunk(argument: str) -> tuple[int, bool] | None:
    """The size in octets after BDAT, and whether it is the last chunk (RFC 3030 2); None for anything else."""
    size, _, last = argument.partition(" ")
    if not (size.isascii() and size.isdigit() and len(size) <= 20 and last.strip().upper() in ("", "LAST")):
        return None
    return int(size), bool(last.strip())


def _path_behind(word: str, argument: str, form: str, enhanced: str, what: str) -> CommandPath | Reply:
    if argument[: len(word)].upper() != word:
        return Reply(501, "5.5.4", f"write {form}")
    try:
        return parse_command_path(argument[len(word) :])
    except BadParameter as error:
        return Reply(501, "5.5.4", str(error))
    except Syntax as error:
        return Reply(501, enhanced, f"bad {what}: {error}")


def _misused(
    given: Mapping[str, str | None], known: Mapping[str, Parameter], offers: Offers, *, secure: bool, utf8: bool
) -> Reply | None:
    for key, value in given.items():
        parameter = known.get(key)
        if parameter is None or not offers.has(parameter.extension, secure=secure):
            return UNKNOWN_PARAMETER
        if not (parameter.fits_utf8 if utf8 and parameter.fits_utf8 else parameter.fits)(value):
            return BAD_PARAMETER
    return None
