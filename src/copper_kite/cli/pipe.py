"""`kite pipe`."""

from __future__ import annotations

import os
import sys
import time

import click

from copper_kite.cli.options import load_settings
from copper_kite.errors import HandOverFailed, InputError, KiteError

__all__ = ["pipe"]

EX_USAGE, EX_DATAERR, EX_TEMPFAIL = 64, 65, 75  # as the system's sysexits.h has them


@click.command()
@click.argument("recipients", nargs=-1, metavar="RECIPIENT...")
@click.option("--from", "sender", metavar="ADDRESS", help="The sender; else the local user at [identity] domain.")
@click.option("--socket", metavar="PATH", help="The server's Unix socket; else the first one in the configuration.")
@click.pass_obj
def pipe(config: str | None, recipients: tuple[str, ...], sender: str | None, socket: str | None) -> None:
    """Hand in one message from standard input, for each RECIPIENT.

    What has no header gets one: From, Date and Message-ID are added where they are missing. On exit 0 the message is
    on stable storage. Exit 64: the command line is wrong; 65: the message or an address is refused; 75: it could not
    be handed in now, so try again later.
    """
    try:
        _pipe(config, recipients, sender, socket)
    except InputError as error:
        _leave(str(error), EX_USAGE if error.usage else EX_DATAERR)
    except HandOverFailed as error:
        _leave(str(error), EX_TEMPFAIL if error.temporary else EX_DATAERR)


def _leave(message: str, status: int) -> None:
    click.echo(f"kite pipe: {message}", err=True)
    sys.exit(status)


def _pipe(config: str | None, recipients: tuple[str, ...], sender: str | None, socket: str | None) -> None:
    from copper_kite.mail.mend import mend
    from copper_kite.routing.outward import Outward
    from copper_kite.session.handover import hand_over
    from copper_kite.smtp.transaction import Envelope

    if not recipients:
        raise InputError("name at least one recipient", usage=True)
    try:
        loaded = load_settings(config)
    except KiteError as error:
        raise HandOverFailed(str(error), temporary=True) from error
    path = socket or next(
        (bind.path for listener in loaded.settings.listener for bind in listener.bind if bind.path), None
    )
    if path is None:
        raise InputError('no listener has a Unix socket; add "unix:/run/copper-kite/submit.sock" to bind', usage=True)
    octets = sys.stdin.buffer.read()
    if not octets.strip():
        raise InputError("there is nothing on standard input")
    if sender is None:
        user = _local_user()
        sender = Outward(loaded.settings.identity, loaded.server_name).sender(user) or f"{user}@{loaded.server_name}"
    _check_addresses(sender, recipients)
    now = time.time()
    message_id = f"{time.time_ns():x}.{os.getpid()}.{os.urandom(4).hex()}@{loaded.server_name}"
    content = mend(octets, sender=sender, message_id=message_id, at=now)
    utf8 = not all(address.isascii() for address in (sender, *recipients))
    envelope = Envelope(sender, tuple(dict.fromkeys(recipients)), len(content), not content.isascii(), utf8)
    hand_over(path, loaded.server_name, envelope, content)


def _check_addresses(sender: str, recipients: tuple[str, ...]) -> None:
    """Refuse what could break out of its command before anything is sent. Raises InputError."""
    for address in (sender, *recipients):
        if not address.isprintable() or not address or any(char in address for char in "<> "):
            raise InputError(f"{address!r} is not an address", usage=True)


def _local_user() -> str:
    import pwd

    try:
        return pwd.getpwuid(os.getuid()).pw_name
    except KeyError:
        return f"uid{os.getuid()}"
