"""`kite pipe`, as the command line knows it. What it does is in `pipe_command`, which starts without all this."""

from __future__ import annotations

import sys

import click

__all__ = ["pipe"]

HELP = """Submit one message from standard input to each RECIPIENT.

What has no header gets one: From, Date and Message-ID are added where they are missing. On exit 0 the message is on
stable storage: with the server, or, while none takes it, in the drop folder, from where the server takes it up. Exit
64: the command line is wrong; 65: the message or an address is refused; 75: it can be kept nowhere now, so try again
later.

\b
  --from, -f ADDRESS      the sender; else the local user at [identity] domain; <> for none
  -F NAME                 the sender's name, where the message has no From
  -t                      recipients are also those in To, Cc and Bcc
  -i, -oi                 a line with a single dot does not end the message
  -bm, -bp, -bs           a message (else); the queue; a session with SMTP on standard input and output
  -oem, -oep, -oeq        what is wrong is told (else), or not (-oeq); the exit status says it in any case
  -odb, -odf, -om         taken, and of no matter here
  --notify WORDS          success, failure, delay, or never: when a notice is wanted (RFC 3461)
  --return full|headers   what of the message a notice brings back
  --envelope-id ID        what a notice names the message by
  --socket PATH           the server's Unix socket; else the first one in the configuration
  --as-standard           a line with a single dot ends the message, as programs expect that call the standard's path

The short ones are those of ISO/IEC 23360-1. Others are ignored, so that no mail is lost for them, and noted in the
system's log: a single letter, and what begins with -o, -N, -R, -B, -O, -q or -V. `kite service --path` puts this
command where programs look for it.
"""


@click.command(
    help=HELP,
    context_settings={"ignore_unknown_options": True, "allow_interspersed_args": False},
    add_help_option=False,
)
@click.argument("words", nargs=-1, type=click.UNPROCESSED, metavar="RECIPIENT...")
@click.pass_context
def pipe(ctx: click.Context, words: tuple[str, ...]) -> None:
    """See HELP."""
    if words[:1] in (("--help",), ("-h",)):
        click.echo(ctx.get_help())
        return
    from copper_kite.cli.commands.pipe_command import hand_in

    sys.exit(hand_in(words, ctx.obj))
