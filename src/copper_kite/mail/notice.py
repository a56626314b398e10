"""Notices to senders about messages that failed, are late, or were relayed (RFC 3464, RFC 6522, RFC 6533)."""

from __future__ import annotations

import base64
import re
from collections.abc import Sequence
from dataclasses import dataclass
from textwrap import wrap
from typing import NamedTuple

from copper_kite.mail.received import format_date
from copper_kite.smtp import decode_xtext, printable, visible

__all__ = ["MAX_RETURNED", "NoticeRecipient", "make_notice", "make_text_message"]

MAX_DIAGNOSTIC = 500  # characters of a peer's text
MAX_RETURNED = 1024 * 1024  # octets of a message that go back whole
MAX_HEADER = 64 * 1024  # octets of a header that go back
_EMBEDDED = re.compile(r"\\x\{([0-9A-Fa-f]{2,6})\}")  # RFC 6533 3


@dataclass(frozen=True, slots=True, kw_only=True)
class NoticeRecipient:
    """One recipient, and what became of it. `reply` is empty unless a remote host said it: `next_hop`, at its address.

    `action` is `failed`, `relayed`, or `delayed` with `until`: how long it is tried, in seconds since 1970. `original`
    is what was given as ORCPT, as it was written.
    """

    address: str
    action: str
    status: str
    explanation: str
    next_hop: str
    reply: str
    until: float | None = None
    original: str = ""
    next_hop_address: str = ""


class _Part(NamedTuple):
    kind: str
    octets: bytes
    encoding: str = "7bit"


def make_notice(
    *,
    server: str,
    postmaster: str,
    reverse_path: str,
    id: str,
    original_id: str,
    envelope_id: str = "",
    arrived: float,
    at: float,
    original: bytes,
    whole: bool = False,
    recipients: Sequence[NoticeRecipient],
) -> bytes:
    """The message, with CR LFs; its envelope is `<>` to `reverse_path` (RFC 3461 6.1).

    `original` is what goes back of the message it is about: its header, or the `whole` of it. All is ASCII, unless the
    reverse-path itself is not (then SMTPUTF8 is needed, and RFC 6533's forms are used as they are) or a message of 8
    bits goes back whole. What peers said is shown escaped and cut, so that no reply can break the parts or the lines.
    """
    utf8 = not reverse_path.isascii()
    boundary = f"notice-{id}"
    subject = {"failed": "Not sent", "delayed": "Not sent yet"}.get(_gravest(recipients), "Relayed")
    status = _status(server, envelope_id, arrived, recipients, utf8=utf8)
    parts = (
        _text_part(_readable(server, original_id, recipients, whole=whole), utf8=utf8),
        _Part("message/global-delivery-status", status, "8bit") if utf8 else _Part("message/delivery-status", status),
        _original_part(original, whole=whole, utf8=utf8),
    )
    encoding = "8bit" if any(part.encoding == "8bit" for part in parts) else "7bit"
    header = (
        f"From: Mail at {server} <{postmaster}>\r\n"
        f"To: <{reverse_path}>\r\n"
        f"Subject: {subject}: your message {original_id}\r\n"
        f"Date: {format_date(at)}\r\n"
        f"Message-ID: <{id}.notice@{server}>\r\n"
        "MIME-Version: 1.0\r\n"
        "Auto-Submitted: auto-replied\r\n"
        f'Content-Type: multipart/report; report-type=delivery-status; boundary="{boundary}"\r\n'
        f"Content-Transfer-Encoding: {encoding}\r\n\r\n"
    )
    body = b"".join(
        f"--{boundary}\r\nContent-Type: {kind}\r\nContent-Transfer-Encoding: {how}\r\n\r\n".encode() + octets + b"\r\n"
        for kind, octets, how in parts
    )
    return header.encode() + body + f"--{boundary}--\r\n".encode()


def make_text_message(*, server: str, sender: str, to: str, subject: str, text: str, id: str, at: float) -> bytes:
    """A short message from this server to its administrator, with CR LFs."""
    body = "".join(f"{line}\r\n" for line in wrap(printable(text), 76))
    return (
        f"From: Mail at {server} <{sender}>\r\nTo: <{to}>\r\nSubject: {printable(subject)}\r\n"
        f"Date: {format_date(at)}\r\nMessage-ID: <{id}.notice@{server}>\r\nMIME-Version: 1.0\r\n"
        f"Auto-Submitted: auto-generated\r\nContent-Type: text/plain; charset=us-ascii\r\n\r\n{body}"
    ).encode()


def _gravest(recipients: Sequence[NoticeRecipient]) -> str:
    return next(
        (action for action in ("failed", "delayed") if any(recipient.action == action for recipient in recipients)),
        "relayed",
    )


def _text_part(text: str, *, utf8: bool) -> _Part:
    if text.isascii():
        return _Part("text/plain; charset=us-ascii", text.encode())
    kind = "text/plain; charset=utf-8"
    return _Part(kind, text.encode(), "8bit") if utf8 else _Part(kind, _in_base64(text.encode()), "base64")


def _original_part(octets: bytes, *, whole: bool, utf8: bool) -> _Part:
    """The message, or its header; as RFC 6533 5 has it where the header is not ASCII, encoded for the way in ASCII."""
    header = octets.partition(b"\r\n\r\n")[0] if whole else octets[:MAX_HEADER]
    if not whole:
        octets = header[: header.rfind(b"\r\n") + 2]
    if header.isascii():
        kind = "message/rfc822" if whole else "text/rfc822-headers"
        return _Part(kind, octets, "7bit" if octets.isascii() else "8bit")
    kind = "message/global" if whole else "message/global-headers"
    return _Part(kind, octets, "8bit") if utf8 else _Part(kind, _in_base64(octets), "base64")


def _in_base64(octets: bytes) -> bytes:
    return base64.encodebytes(octets).replace(b"\n", b"\r\n")


def _readable(server: str, original_id: str, recipients: Sequence[NoticeRecipient], *, whole: bool) -> str:
    failed = [recipient for recipient in recipients if recipient.action == "failed"]
    delayed = [recipient for recipient in recipients if recipient.action == "delayed"]
    relayed = [recipient for recipient in recipients if recipient.action == "relayed"]
    lines = []
    if failed:
        lines += [f"{server} could not send your message {original_id} to:", "", *_told(failed)]
        lines += ["It will not be tried again.", ""]
    if delayed:
        lines += [f"{server} has not been able yet to send your message {original_id} to:", "", *_told(delayed)]
        lines += [f"It is tried until {format_date(delayed[0].until or 0.0)}; there is nothing for you to do.", ""]
    if relayed:
        lines += [f"{server} has relayed your message {original_id} to:", "", *_told(relayed)]
    lines.append("Your message is attached." if whole else "The header of your message is attached.")
    return "".join(f"{line}\r\n" for line in lines)


def _told(recipients: Sequence[NoticeRecipient]) -> list[str]:
    lines = []
    for recipient in recipients:
        lines.append(f"  {visible(recipient.address)}")
        lines += wrap(visible(recipient.explanation), 76, initial_indent="    ", subsequent_indent="    ")
        if recipient.reply:
            said = f"{recipient.next_hop} said: {printable(recipient.reply)[:MAX_DIAGNOSTIC]}"
            lines += wrap(said, 76, initial_indent="    ", subsequent_indent="    ")
        lines.append("")
    return lines


def _status(
    server: str, envelope_id: str, arrived: float, recipients: Sequence[NoticeRecipient], *, utf8: bool
) -> bytes:
    about = f"Reporting-MTA: dns; {server}\r\n"
    if envelope_id:
        about = f"Original-Envelope-Id: {printable(envelope_id)}\r\n{about}"
    groups = [f"{about}Arrival-Date: {format_date(arrived)}\r\n"]
    for recipient in recipients:
        original = _original_address(recipient.original, utf8=utf8)
        group = f"Original-Recipient: {original}\r\n" if recipient.original else ""
        group += (
            f"Final-Recipient: {_typed_address(recipient.address, utf8=utf8)}\r\n"
            f"Action: {recipient.action}\r\nStatus: {recipient.status}\r\n"
        )
        if recipient.reply:
            address = f" ({recipient.next_hop_address})" if recipient.next_hop_address else ""
            group += f"Remote-MTA: dns; {recipient.next_hop}{address}\r\n"
            group += f"Diagnostic-Code: smtp; {printable(recipient.reply)[:MAX_DIAGNOSTIC]}\r\n"
        if recipient.until is not None:
            group += f"Will-Retry-Until: {format_date(recipient.until)}\r\n"
        groups.append(group)
    return "\r\n".join(groups).encode()


def _original_address(orcpt: str, *, utf8: bool) -> str:
    """The value of ORCPT: its type, and its address without xtext (RFC 3464 2.3.1, RFC 6533 3)."""
    kind, _, address = orcpt.partition(";")
    if kind.lower() != "utf-8":
        return f"{kind}; {printable(decode_xtext(address))}"
    plain = _EMBEDDED.sub(lambda match: chr(int(match[1], 16)), decode_xtext(address, utf8=True))
    return f"{kind}; {visible(plain) if utf8 else _escaped(plain)}"


def _typed_address(address: str, *, utf8: bool) -> str:
    """An address with its type; one that is not ASCII in the form that its notice can carry (RFC 6533 3)."""
    if address.isascii():
        return f"rfc822; {printable(address)}"
    return f"utf-8; {visible(address) if utf8 else _escaped(address)}"


def _escaped(address: str) -> str:
    return "".join(c if "!" <= c <= "~" and c not in "\\+=" else f"\\x{{{ord(c):02X}}}" for c in address)
