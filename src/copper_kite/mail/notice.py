"""Notices: what the sender is told when a message failed (RFC 3464, RFC 6522)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from textwrap import wrap

from copper_kite.mail.received import format_date
from copper_kite.smtp.replies import printable

__all__ = ["FailedRecipient", "failed_notice"]

MAX_DIAGNOSTIC = 500  # characters of a peer's text


@dataclass(frozen=True, slots=True, kw_only=True)
class FailedRecipient:
    """One recipient that will not get the message. `reply` is empty unless a remote host said it."""

    address: str
    status: str
    explanation: str
    next_hop: str
    reply: str


def failed_notice(
    *,
    server: str,
    postmaster: str,
    reverse_path: str,
    id: str,
    original_id: str,
    arrived: float,
    at: float,
    original_header: bytes,
    recipients: Sequence[FailedRecipient],
) -> bytes:
    """The whole message, with CR LFs and ASCII only; its envelope is `<>` to `reverse_path` (RFC 3461 6.1).

    What peers said is shown escaped and cut, so that no reply can break the parts or the lines.
    """
    boundary = f"notice-{id}"
    parts = (
        ("text/plain; charset=us-ascii", _readable(server, original_id, recipients)),
        ("message/delivery-status", _status(server, arrived, recipients)),
        ("text/rfc822-headers", _ascii_lines(original_header)),
    )
    body = "".join(f"--{boundary}\r\nContent-Type: {kind}\r\n\r\n{text}\r\n" for kind, text in parts)
    return (
        f"From: Mail at {server} <{postmaster}>\r\n"
        f"To: <{reverse_path}>\r\n"
        f"Subject: Not sent: your message {original_id}\r\n"
        f"Date: {format_date(at)}\r\n"
        f"Message-ID: <{id}.notice@{server}>\r\n"
        "MIME-Version: 1.0\r\n"
        "Auto-Submitted: auto-replied\r\n"
        f'Content-Type: multipart/report; report-type=delivery-status; boundary="{boundary}"\r\n'
        f"\r\n{body}--{boundary}--\r\n"
    ).encode("ascii")


def _readable(server: str, original_id: str, recipients: Sequence[FailedRecipient]) -> str:
    lines = [f"{server} could not send your message {original_id} to:", ""]
    for recipient in recipients:
        lines.append(f"  {printable(recipient.address)}")
        lines += wrap(printable(recipient.explanation), 76, initial_indent="    ", subsequent_indent="    ")
        if recipient.reply:
            lines += wrap(
                f"{recipient.next_hop} said: {printable(recipient.reply)[:MAX_DIAGNOSTIC]}",
                76,
                initial_indent="    ",
                subsequent_indent="    ",
            )
        lines.append("")
    lines.append("It will not be tried again. The header of your message is attached.")
    return "".join(f"{line}\r\n" for line in lines)


def _status(server: str, arrived: float, recipients: Sequence[FailedRecipient]) -> str:
    groups = [f"Reporting-MTA: dns; {server}\r\nArrival-Date: {format_date(arrived)}\r\n"]
    for recipient in recipients:
        group = (
            f"Final-Recipient: rfc822; {printable(recipient.address)}\r\n"
            f"Action: failed\r\nStatus: {recipient.status}\r\n"
        )
        if recipient.reply:
            group += f"Remote-MTA: dns; {recipient.next_hop}\r\n"
            group += f"Diagnostic-Code: smtp; {printable(recipient.reply)[:MAX_DIAGNOSTIC]}\r\n"
        groups.append(group)
    return "\r\n".join(groups)


def _ascii_lines(octets: bytes) -> str:
    return octets.decode("ascii", "replace").replace("\ufffd", "?")
