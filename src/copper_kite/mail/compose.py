"""A message made from its parts: text, HTML, attachments, header fields (RFC 5322, RFC 2045, RFC 2047)."""

from __future__ import annotations

import email.policy
import mimetypes
from collections.abc import Sequence
from dataclasses import dataclass, replace
from email.headerregistry import Address
from email.message import EmailMessage
from email.utils import getaddresses
from pathlib import Path

from copper_kite.errors import InputError
from copper_kite.mail.received import format_date

__all__ = ["Parts", "compose_message", "padding", "split_address"]

PADDING = (
    b"0123456789abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ-.........."  # one line of it, without its end
)


@dataclass(frozen=True, slots=True, kw_only=True)
class Parts:
    """The parts of a message. Addresses may have display names; `fields` are `Name: value`; `size` in octets."""

    sender: str
    recipients: Sequence[str]
    subject: str
    text: str
    html: str = ""
    attachments: Sequence[Path] = ()
    fields: Sequence[str] = ()
    size: int | None = None


def split_address(text: str) -> tuple[str, str]:
    """Display name and address of `Ana Silva <ana@passenger.example>`. Raises InputError."""
    result = getaddresses([text])
    if len(result) != 1 or "@" not in result[0][1]:
        raise InputError(f"{text!r} is not an address; write it as ana@x.example or 'Ana <ana@x.example>'", usage=True)
    return result[0]


def compose_message(parts: Parts, message_id: str, at: float) -> bytes:
    """The message, with CR LFs; text is filled up to `size` when there is one. `at` in seconds since 1970.

    Raises InputError for what cannot be in a message.
    """
    content = _build(parts, message_id, at)
    if parts.size is None:
        return content
    missing = parts.size - len(content)
    if missing < 0:
        raise InputError(
            f"the message has {len(content)} octets without any padding, {parts.size} are wanted", usage=True
        )
    if not parts.html and not parts.attachments and content.isascii() and parts.text.isascii():
        return content + padding(missing)
    padded = replace(parts, text=_ended(parts.text) + padding(missing).decode().replace("\r\n", "\n"))
    return _build(padded, message_id, at)


def _ended(text: str) -> str:
    return text if not text or text.endswith("\n") else text + "\n"


def padding(octets: int) -> bytes:
    """Lines of text with CR LFs, `octets` in all (at least 3, or none)."""
    line = len(PADDING) + 2
    whole, rest = divmod(octets, line)
    if rest in (1, 2) and whole:
        whole, rest = whole - 1, rest + line
    text = (PADDING + b"\r\n") * whole
    while rest > 2:  # one line, or two where one would be over a line's length
        part = min(rest, line - 1)
        text += b"." * (part - 2) + b"\r\n"
        rest -= part
    return text


def _build(parts: Parts, message_id: str, at: float) -> bytes:
    ascii_only = "".join((parts.sender, *parts.recipients)).isascii()
    policy = email.policy.SMTP if ascii_only else email.policy.SMTPUTF8
    message = EmailMessage(policy.clone(cte_type="7bit"))
    try:
        message["From"] = _address(parts.sender)
        message["To"] = [_address(recipient) for recipient in parts.recipients]
        message["Subject"] = parts.subject
        message["Date"] = format_date(at)
        message["Message-ID"] = f"<{message_id}>"
        for line in parts.fields:
            name, colon, value = line.partition(":")
            if not colon:
                raise InputError(f"{line!r} is no header field; write it as Name: value", usage=True)
            del message[name.strip()]
            message[name.strip()] = value.strip()
        message.set_content(_ended(parts.text))
        if parts.html:
            message.add_alternative(parts.html, subtype="html")
        for path in parts.attachments:
            kind, _, subtype = (mimetypes.guess_type(path.name)[0] or "application/octet-stream").partition("/")
            message.add_attachment(path.read_bytes(), maintype=kind, subtype=subtype, filename=path.name)
        return message.as_bytes()
    except OSError as error:
        raise InputError(f"{error.filename}: cannot be read ({error.strerror})", usage=True) from error
    except (ValueError, IndexError) as error:
        raise InputError(f"this cannot be in a header: {error}", usage=True) from error


def _address(text: str) -> Address:
    name, address = split_address(text)
    return Address(display_name=name, addr_spec=address)
