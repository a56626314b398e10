"""A weakness, and the kinds of them."""

from __future__ import annotations

import shlex
from typing import NamedTuple

__all__ = ["RISKS", "Weakness", "kite"]

# Each kind of weakness: the harm that it can do.
RISKS = {
    "login-in-clear": "anybody on the path, or posing as the next hop, gets the password",
    "mail-in-clear": "anybody on the path can read and change the mail",
    "unverified-way": "anybody posing as the smart host can read the mail",
    "weak-ciphers": "traffic recorded today can be decrypted if the next hop's key is ever lost",
    "wide-network": "every machine in it can send mail in your name without a login",
    "clear-listener": "messages and logins that programs submit can be read on the network",
    "any-sender": "a stolen login can send as any address, including those of your domains",
    "no-account-allowance": "a stolen login can send without limit, until your smart host blocks you",
    "login-from-anywhere": "a stolen login can be used from any address that reaches the listener",
    "old-password-key": "passwords in a stolen accounts.toml can be guessed faster than necessary",
    "readable-file": "every user of this machine can read it",
    "runs-as-root": "a fault in the server gives an attacker all rights",
    "unconfined": "a fault in the server can reach the whole machine",
    "secret-in-environment": "environments appear in dumps and in child processes",
    "no-guard": "a faulty or hijacked program can send until your smart host blocks you",
    "no-alarm": "users notice that mail has stopped before you do",
    "nobody-reads-root": "reports of the system reach nobody",
    "one-host": "while it is down, all mail of the connector waits",
    "no-backup": "if the disk fails, waiting mail and the record of sent mail are lost",
    "old-backup": "if the disk fails, waiting mail and the record of sent mail are lost",
    "short-lifetime": "an outage over a weekend makes mail fail",
    "short-journal": "questions about older messages cannot be answered",
    "certificate-ends": "after that, clients or next hops refuse the session",
    "short-key": "it can be broken, and some receivers no longer accept it",
    "unsigned-domain": "large receivers refuse unsigned mail or treat it as spam",
    "unsigned-way": "its mail is unsigned, unless the smart host signs it",
    "dmarc-fails": "receivers refuse the mail or treat it as spam, as your own domain asks them to",
    "policy-off": "an attacker on the path can force clear text or pose as the receiving host",
    "unvalidated-dns": "DANE is never used, as nobody vouches for this resolver's answers",
    "open-metrics": "strangers can see how much mail you send and which destinations fail",
    "old-software": "security faults found in it are no longer fixed",
}


class Weakness(NamedTuple):
    """A weakness: its kind, its subject (a connector, say), and the finding.

    `cure` is a command; `safe` means that it can run without a question; `advice` is for steps that no command takes.
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
