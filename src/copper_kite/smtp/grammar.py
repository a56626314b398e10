"""The grammar of commands: paths, parameters, names, xtext (RFC 5321 4.1.2, RFC 6531 3.3, RFC 3461 4)."""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Mapping
from typing import NamedTuple

from copper_kite.smtp.mailbox import split_mailbox

__all__ = [
    "MAX_DOMAIN",
    "MAX_LOCAL_PART",
    "MAX_PATH",
    "PLAIN_MAIL",
    "PLAIN_RCPT",
    "BadParameter",
    "Syntax",
    "decode_xtext",
    "encode_xtext",
    "is_domain",
    "is_mailbox",
    "parse_command_path",
    "parse_hello_name",
    "split_mailbox",
    "unambiguous",
]

MAX_LOCAL_PART = 64  # octets, RFC 5321 4.5.3.1.1
MAX_DOMAIN = 255  # octets, RFC 5321 4.5.3.1.2
MAX_PATH = 256  # octets incl. the angle brackets, RFC 5321 4.5.3.1.3

# Written as what is not allowed: then all of UTF-8 is in (RFC 6531 3.3), and the patterns compile fast.
_ATEXT = r"""[^\x00-\x20\x7f()<>@,;:\\".\[\]]"""
_DOT_STRING = rf"{_ATEXT}+(?:\.{_ATEXT}+)*"
_QUOTED = r'"(?:[^\x00-\x1f\x7f"\\]|\\[\x20-\x7e])*"'
_LETTER = r"[^\x00-\x2f:-@\[-^`{-\x7f]"  # a letter, a digit, an underscore or what is not ASCII
_LABEL = rf"{_LETTER}(?:(?:{_LETTER}|-)*{_LETTER})?"
_DOMAIN = rf"{_LABEL}(?:\.{_LABEL})*"
_LITERAL = r"\[[\x21-\x5a\x5e-\x7e]+\]"
_ROUTE = rf"@{_DOMAIN}(?:,@{_DOMAIN})*:"

_LOOSE_DOTS = re.compile(rf"((?:{_ATEXT}|\.)+)@({_DOMAIN})")  # dots where a dot-string has none
_PATH = re.compile(rf"(?:{_ROUTE})?((?:{_DOT_STRING}|{_QUOTED})(?:@(?:{_DOMAIN}|{_LITERAL}))?)")
# Most command lines, at one stroke: atoms, a domain of plain labels, no parameters but SIZE. Groups: path, size.
_PLAIN_ATOM = "[A-Za-z0-9_+=-]++"
_PLAIN_LABEL = "[A-Za-z0-9]++(?:-++[A-Za-z0-9]++)*+"
_PLAIN_PATH = rf" ?<((?=[^@]{{1,64}}@){_PLAIN_ATOM}(?:\.{_PLAIN_ATOM})*+@{_PLAIN_LABEL}(?:\.{_PLAIN_LABEL})*+)>"
PLAIN_MAIL = re.compile(f"(?i:MAIL FROM):{_PLAIN_PATH}(?: (?i:SIZE)=([0-9]{{1,20}}))?\r\n".encode())
PLAIN_RCPT = re.compile(f"(?i:RCPT TO):{_PLAIN_PATH}\r\n".encode())
_COMMAND_PATH = re.compile(r' ?<([^>"]*(?:"(?:[^"\\]|\\.)*"[^>"]*)*)>((?: .*)?)')
_PARAMETER = re.compile(r"([A-Za-z0-9][A-Za-z0-9-]*)(?:=([^\x00-\x20=\x7f]+))?")
_DOMAIN_ONLY = re.compile(_DOMAIN)
_HELLO_NAME = re.compile(r"[A-Za-z0-9._:-]+|\[[A-Za-z0-9.:]+\]")
_XTEXT = re.compile(r"(?:[\x21-\x2a\x2c-\x3c\x3e-\x7e]|\+[0-9A-F]{2})*")
_XCHAR = re.compile(r"\+([0-9A-F]{2})")


class Syntax(ValueError):
    """Raised for text that the grammar does not allow; the caller decides what that means."""


_SLIGHTLY_OFF = re.compile(
    r"(FROM|TO)[ \t]*:[ \t]*(?:<[ \t]*([^<>]*?)[ \t]*>|([^<>\s]+@[^<>\s]+))((?:[ \t].*)?)", re.IGNORECASE
)


class BadParameter(Syntax):
    """Raised for what stands after a path that is itself well."""


class CommandPath(NamedTuple):
    """A reverse-path or recipient with the parameters after it, keywords in upper case."""

    path: str
    parameters: Mapping[str, str | None]


def parse_command_path(text: str) -> CommandPath:
    """The `<path> [parameters]` after `FROM:` or `TO:`.

    The null path is the empty string; a source route is dropped (RFC 5321 App. C). One space before the bracket is
    let pass, since programs send it. Raises Syntax.
    """
    match = _COMMAND_PATH.fullmatch(text)
    if match is None:
        raise Syntax("the path stands in angle brackets, parameters after it and a space")
    inner, tail = match.groups()
    return CommandPath(_parse_path(inner) if inner else "", _parse_parameters(tail))


def _parse_path(inner: str) -> str:
    if len(inner.encode("utf-8", "surrogateescape")) > MAX_PATH - 2:
        raise Syntax("path too long")
    match = _PATH.fullmatch(inner)
    if match is not None:
        path = match.group(1)
    elif (loose := _LOOSE_DOTS.fullmatch(inner)) is not None:
        path = f'"{loose[1]}"@{loose[2]}'  # such mailboxes exist; quoted, every server can be told of one
    else:
        raise Syntax("not an address")
    local, domain = split_mailbox(path)
    if len(local.encode()) > MAX_LOCAL_PART:
        raise Syntax("local part too long")
    if len(domain.encode()) > MAX_DOMAIN or (domain.startswith("[") and not _is_literal(domain)):
        raise Syntax("not a domain")
    return path


def _parse_parameters(tail: str) -> dict[str, str | None]:
    parameters: dict[str, str | None] = {}
    for word in tail.split():
        match = _PARAMETER.fullmatch(word)
        if match is None:
            raise BadParameter("not a parameter")
        key = match.group(1).upper()
        if key in parameters:
            raise BadParameter(f"{key} given twice")
        parameters[key] = match.group(2)
    return parameters


def _is_literal(domain: str) -> bool:
    """Whether `domain` is an address literal: `[192.0.2.1]` or `[IPv6:2001:db8::1]` (RFC 5321 4.1.3)."""
    inner = domain[1:-1]
    try:
        if inner[:5].upper() == "IPV6:":
            ipaddress.IPv6Address(inner[5:])
        else:
            ipaddress.IPv4Address(inner)
    except ValueError:
        return False
    return True


def is_mailbox(text: str) -> bool:
    """Whether `text` is a whole address: a local part and a domain."""
    try:
        return bool(text) and bool(split_mailbox(_parse_path(text))[1]) and not text.startswith("@")
    except (Syntax, UnicodeError):
        return False


def is_domain(text: str) -> bool:
    """Whether `text` is a domain name in form (not whether it exists)."""
    return len(text) <= MAX_DOMAIN and _DOMAIN_ONLY.fullmatch(text) is not None


def parse_hello_name(text: str) -> str:
    """The name given with EHLO or HELO, in form only (RFC 5321 4.1.4 forbids refusing one that does not resolve).

    Raises Syntax, so that nothing unprintable reaches a reply, a log or a `Received:` field.
    """
    if len(text) > MAX_DOMAIN or _HELLO_NAME.fullmatch(text) is None:
        raise Syntax("not a name")
    if text.startswith("[") and not _is_literal(text):
        raise Syntax("not an address literal")
    return text


def unambiguous(argument: str) -> str:
    """The corrected argument of MAIL or RCPT where a client wrote it slightly off and its meaning is certain: blanks
    around the colon or within the brackets, or an address without brackets."""
    match = _SLIGHTLY_OFF.fullmatch(argument)
    if match is None:
        return argument
    word, inner, bare, rest = match.groups()
    return f"{word}:<{bare if inner is None else inner}>{rest}"


def encode_xtext(text: str) -> str:
    """Plain ASCII as xtext (RFC 3461 4)."""
    return "".join(char if "!" <= char <= "~" and char not in "+=" else f"+{ord(char):02X}" for char in text)


def decode_xtext(text: str, *, utf8: bool = False) -> str:
    """xtext as plain text (RFC 3461 4); with `utf8`, what is not ASCII may stand in it (RFC 6533 3). Raises Syntax."""
    ascii_only = "".join(c for c in text if c.isascii()) if utf8 else text
    if _XTEXT.fullmatch(ascii_only) is None:
        raise Syntax("not xtext")
    return _XCHAR.sub(lambda match: chr(int(match.group(1), 16)), text)
