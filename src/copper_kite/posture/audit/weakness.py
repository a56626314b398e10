"""A weakness, and the kinds of them."""

from __future__ import annotations

import shlex
from typing import NamedTuple

__all__ = ["RISKS", "Weakness", "kite"]

# Each kind of weakness: the harm that it can do.
RISKS = {
    "login-in-clear": "whoever listens on the way, or stands in for the next hop, has the password",
    "mail-in-clear": "everybody on the way can read and change the mail",
    "unverified-way": "whoever stands in for the smart host reads the mail",
    "weak-ciphers": "what is recorded today can be read when the key of the next hop is lost",
    "wide-network": "each machine in it sends mail in your name, without a login",
    "clear-listener": "what programs submit, and their logins, can be read on the network",
    "any-sender": "a stolen login sends in anybody's name, of your domains, too",
    "no-account-allowance": "a stolen login sends as much as it likes, until your smart host blocks you",
    "login-from-anywhere": "a stolen login can be used from every address that reaches the listener",
    "old-password-key": "a stolen accounts.toml gives its passwords away sooner than it need",
    "readable-file": "every user of this machine can read what is in it",
    "runs-as-root": "a fault in the server is a fault with all rights",
    "unconfined": "a fault in the server reaches the whole machine",
    "secret-in-environment": "what is in the environment shows in dumps, in child processes and to whoever may look",
    "no-guard": "a program gone wild, or taken over, sends until your smart host blocks you",
    "no-alarm": "that mail stands still is heard of from users first",
    "nobody-reads-root": "what the system reports arrives where nobody looks",
    "one-host": "while it is down, all mail of the connector waits",
    "no-backup": "with the disk goes the mail that waits, and the record of what was sent",
    "old-backup": "with the disk goes the mail that waits, and the record of what was sent",
    "short-lifetime": "an outage over a weekend fails mail",
    "short-journal": "what happened to a message can no longer be told when somebody asks",
    "certificate-ends": "from then on clients or next hops refuse the session",
    "short-key": "it can be broken, and receivers believe it less and less",
    "unsigned-domain": "big receivers refuse or sort out mail that nobody signed",
    "unsigned-way": "what leaves there is unsigned, unless the smart host signs it",
    "dmarc-fails": "receivers sort the mail out, or refuse it, as your own domain tells them to",
    "policy-off": "somebody on the way can have mail handed over in clear, or to himself",
    "unvalidated-dns": "DANE never counts: nobody vouches for the answers of this resolver",
    "open-metrics": "strangers read how much mail you send, and to whom it stands still",
    "old-software": "what is found wrong in it is not mended any more",
}


class Weakness(NamedTuple):
    """A weakness: its kind, its subject (a connector, say), and the finding.

    `cure` is a command; `safe` says that nobody need be asked; `advice` is for what no command does.
    """

    risk: str
    of: str
    text: str
    cure: str
    safe: bool = False
    advice: str = ""

    @property
    def harm(self) -> str:
        """The possible harm."""
        return RISKS[self.risk]


def kite(*words: str) -> str:
    """A command as it is typed."""
    return shlex.join(("kite", *words))
