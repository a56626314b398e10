"""Notices: what the sender is told of a message that failed, or that is late (RFC 3464, RFC 6522)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from textwrap import wrap

from copper_kite.mail.received import format_date
from copper_kite.smtp.replies import printable

__all__ = ["NoticeRecipient", "make_notice"]

MAX_DIAGNOSTIC = 500  # characters of a peer's text


@dataclass(frozen=True, slots=True, kw_only=True)
class NoticeRecipient:
    """One recipient, and what became of it. `reply` is empty unless a remote host said it.

    `action` is `failed`, or `delayed` with `until`: how long it is tried, in seconds since 1970.
    """

    address: str
    action: str
    status: str
    explanation: str
    next_hop: str
    reply: str
    until: float | None = None


def make_notice(
    *,
    server: str,
    postmaster: str,
    reverse_path: str,
    id: str,
    original_id: str,
    arrived: float,
    at: float,
    original_header: bytes,
    recipients: Sequence[NoticeRecipient],
) -> bytes:
    """The whole message, with CR LFs and ASCII only; its envelope is `<>` to `reverse_path` (RFC 3461 6.1).

    What peers said is shown escaped and cut, so that no reply can break the parts or the lines.
    """
    boundary = f"notice-{id}"
    subject = "Not sent" if any(one.action == "failed" for one in recipients) else "Not sent yet"
    parts = (
        ("text/plain; charset=us-ascii", _readable(server, original_id, recipients)),
        ("message/delivery-status", _status(server, arrived, recipients)),
        ("text/rfc822-headers", _ascii_lines(original_header)),
    )
    body = "".join(f"--{boundary}\r\nContent-Type: {kind}\r\n\r\n{text}\r\n" for kind, text in parts)
    return (
        f"From: Mail at {server} <{postmaster}>\r\n"
        f"To: <{reverse_path}>\r\n"
        f"Subject: {subject}: your message {original_id}\r\n"
        f"Date: {format_date(at)}\r\n"
        f"Message-ID: <{id}.notice@{server}>\r\n"
        "MIME-Version: 1.0\r\n"
        "Auto-Submitted: auto-replied\r\n"
        f'Content-Type: multipart/report; report-type=delivery-status; boundary="{boundary}"\r\n'
        f"\r\n{body}--{boundary}--\r\n"
    ).encode("ascii")


def _readable(server: str, original_id: str, recipients: Sequence[NoticeRecipient]) -> str:
    failed = [one for one in recipients if one.action == "failed"]
    delayed = [one for one in recipients if one.action == "delayed"]
    lines = []
    if failed:
        lines += [f"{server} could not send your message {original_id} to:", "", *_told(failed)]
        lines += ["It will not be tried again.", ""]
    if delayed:
        lines += [f"{server} has not been able yet to send your message {original_id} to:", "", *_told(delayed)]
        lines += [f"It is tried until {format_date(delayed[0].until or 0.0)}; there is nothing for you to do.", ""]
    lines.append("The header of your message is attached.")
    return "".join(f"{line}\r\n" for line in lines)


def _told(recipients: Sequence[NoticeRecipient]) -> list[str]:
    lines = []
    for recipient in recipients:
        lines.append(f"  {printable(recipient.address)}")
        lines += wrap(printable(recipient.explanation), 76, initial_indent="    ", subsequent_indent="    ")
        if recipient.reply:
            said = f"{recipient.next_hop} said: {printable(recipient.reply)[:MAX_DIAGNOSTIC]}"
            lines += wrap(said, 76, initial_indent="    ", subsequent_indent="    ")
        lines.append("")
    return lines


def _status(server: str, arrived: float, recipients: Sequence[NoticeRecipient]) -> str:
    groups = [f"Reporting-MTA: dns; {server}\r\nArrival-Date: {format_date(arrived)}\r\n"]
    for recipient in recipients:
        group = (
            f"Final-Recipient: rfc822; {printable(recipient.address)}\r\n"
            f"Action: {recipient.action}\r\nStatus: {recipient.status}\r\n"
        )
        if recipient.reply:
            group += f"Remote-MTA: dns; {recipient.next_hop}\r\n"
            group += f"Diagnostic-Code: smtp; {printable(recipient.reply)[:MAX_DIAGNOSTIC]}\r\n"
        if recipient.until is not None:
            group += f"Will-Retry-Until: {format_date(recipient.until)}\r\n"
        groups.append(group)
    return "\r\n".join(groups)


def _ascii_lines(octets: bytes) -> str:
    return octets.decode("ascii", "replace").replace("\ufffd", "?")
