"""Write docs/tutorial-jam.md from what the commands print: a jam of 3,000 messages, made, taken apart and cleared."""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent.parent))

from copper_kite.store import open_store
from copper_kite.words import State
from tests.causes import TERN, Local, secrets, stand_in
from tests.configuration import site_text
from tests.support import environment, free_port, running

JAM = (  # how many, for whom, what about
    (1400, "{}@passenger.example", "Your crossing to Seal Bay"),
    (900, "lists{}@harbouroffice.example", "Passenger list"),
    (500, "stock{}@oldferries.example", "Stock for the cafe"),
    (200, "pier@crew.example", "Tide at Gull Point"),
)
CONNECTORS = """\
[[connector]]
name = "beacon"
recipients = ["passenger.example", "ternferries.example"]
hosts = ["localhost:{hop}"]
trust = "caught/tls/ca.pem"
credential = "beacon"

[[connector]]
name = "harbour"
recipients = ["harbouroffice.example"]
hosts = ["localhost:{hop}"]
credential = "office"

[[connector]]
name = "crew"
recipients = ["crew.example"]
hosts = ["localhost:{hop}"]
trust = "caught/tls/ca.pem"
credential = "office"

[log]
to = "file:kite.log"
"""
BEHAVIOUR = """\
name = "localhost"
[[rule]]
stage = "recipient"
recipient = "pier@crew.example"
answer = "450 4.2.1 the mailbox is being moved; try again later"
"""
TEXT = """\
# A jam, taken apart

On a Monday morning 3,000 messages wait at quay1. Four things went wrong over the weekend, and nobody knows which. This
page is made by `docs/make_tutorial.py`: it makes the jam on one machine, types the commands, and shows what they print.

Five commands: the first sums it up, each of the others mends one cause.

## 1 The summary
{0}
Four reasons, and four domains: a login, a certificate, a connector that is missing, a mailbox. `kite trace` tells more
of each, with the next command to type; it takes the same words as the tables. (One of the four, as an example.)
{1}
## 2 The password
The provider took the old password away on Sunday. The new one goes in, the server takes it up at once, and what waited
for that connector need not wait for its next try.
{2}
## 3 The certificate
The harbour office has a new certificate, signed by its own authority, whose file it had sent by post.
{3}
## 4 The partner without a connector
Nobody carries `oldferries.example`: it moved to the general provider, and its connector was removed. A connector that
carries it from now on would be `kite connector set beacon recipients+=oldferries.example`; what waits goes with it:
{4}
## 5 The mailbox that moves
`pier@crew.example` will be away all day, and the tide alarms should be read now. They go to the duty officer instead.
{5}
## And now
{6}
`kite log search --since 10m --outcome relayed --count` counts what left, and `kite queue watch` shows it live while it
happens.
"""


class Tutorial:
    """Runs commands as one would type them, in the folder of a site."""

    def __init__(self, folder: Path, port: int) -> None:
        self.folder, self.port = folder, port

    def type(self, command: str, *, lines: int = 60, **more: str) -> str:
        """The command with what it printed."""
        words = command.split()[1:]
        env = environment(KITE_CONFIG=str(self.folder / "kite.toml"), COLUMNS="100", **more)
        done = subprocess.run(
            [sys.executable, "-m", "copper_kite", *words], capture_output=True, text=True, env=env, cwd=self.folder
        )
        shown = (done.stdout + done.stderr).replace(str(self.folder), "/etc/copper-kite")
        shown = shown.replace(f"localhost:{self.port}", "localhost:587")
        told = shown.splitlines()
        kept = told if len(told) <= lines else [*told[:lines], "…"]
        return "".join(f"    {line}".rstrip() + "\n" for line in [f"$ {command}", *kept])

    def until(self, waiting: int) -> None:
        """Until no more than that wait."""
        with open_store(self.folder / "queue").reader() as reader:
            deadline = time.monotonic() + 120
            while sum(reader.summary().by_state.values()) > waiting:
                assert time.monotonic() < deadline, reader.summary()
                time.sleep(0.1)


def hand_in(folder: Path) -> None:
    """The jam."""
    with Local(str(folder / "submit.sock"), 1, "programs") as client:
        for count, to, subject in JAM:
            for number in range(count):
                sender = f"{'tidewatch' if 'Tide' in subject else 'ticketing'}@{TERN}"
                client.sendmail(sender, [to.format(number)], f"Subject: {subject}\r\n\r\nx\r\n")


def all_delayed(folder: Path) -> None:
    with open_store(folder / "queue").reader() as reader:
        while reader.summary().by_state.get(State.DELAYED) != sum(count for count, _, _ in JAM):
            time.sleep(0.1)


def main() -> None:
    """Make the page."""
    with tempfile.TemporaryDirectory() as name:
        folder, hop = Path(name), free_port()
        secrets(folder / "logins.toml", tern="quay-7")
        secrets(folder / "credentials.toml", beacon="quay-6", office="quay-7")
        (folder / "kite.toml").write_text(site_text(CONNECTORS.format(hop=hop), bind=f"unix:{folder}/submit.sock"))
        tutorial = Tutorial(folder, hop)
        with stand_in(folder, hop, BEHAVIOUR), running(folder / "kite.toml"):
            (folder / "office-ca.pem").write_bytes((folder / "caught/tls/ca.pem").read_bytes())
            hand_in(folder)
            all_delayed(folder)
            shown = [tutorial.type("kite queue"), tutorial.type("kite trace stock7@oldferries.example")]
            shown.append(tutorial.type("kite credential set beacon --password-env SECRET", SECRET="quay-7"))
            tutorial.until(1600)
            shown.append(tutorial.type("kite connector set harbour trust=office-ca.pem"))
            tutorial.until(700)
            redirect = "kite queue redirect --yes --to"
            shown.append(tutorial.type(f"{redirect} oldferries.example --to-connector beacon", lines=14))
            tutorial.until(200)
            to_duty = "pier@crew.example --to-recipient duty@crew.example"
            shown.append(tutorial.type(f"{redirect} {to_duty}", lines=14))
            tutorial.until(0)
            shown.append(tutorial.type("kite queue") + "\n" + tutorial.type("kite trace pier@crew.example --limit 3"))
    Path(__file__).with_name("tutorial-jam.md").write_text(TEXT.format(*("\n" + one for one in shown)))


if __name__ == "__main__":
    main()
