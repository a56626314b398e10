"""`kite talk`: by hand at a terminal, and on a pipe."""

from __future__ import annotations

import os
import pty
import re
import select
import sys
import time
from pathlib import Path
from typing import Any

from tests.cli.test_testing import MAIL, catching, meet
from tests.support import PASSWORD, SECONDS, environment, kite


class Terminal:
    """A program under a pseudo-terminal."""

    def __init__(self, command: list[str], folder: Path) -> None:
        self._octets, self._seen = b"", 0
        self.pid, self._fd = pty.fork()
        if self.pid == 0:
            more = {"TERM": "xterm", "PROMPT_TOOLKIT_NO_CPR": "1", "XDG_STATE_HOME": str(folder / "state")}
            os.execve(command[0], command, environment(**more))

    def until(self, words: str) -> None:
        """Read until `words` have come behind those waited for before."""
        ends = time.monotonic() + SECONDS
        while words not in (fresh := self._text()[self._seen :]):
            assert time.monotonic() < ends, f"{words!r} did not come: {fresh}"
            if select.select([self._fd], [], [], 0.2)[0]:
                self._octets += os.read(self._fd, 65536)
        self._seen += fresh.index(words) + len(words)

    def _text(self) -> str:
        return re.sub(r"\x1b\[[0-9;?]*[A-Za-z]", "", self._octets.decode("utf-8", "replace"))

    @property
    def heard(self) -> str:
        """All that has been shown."""
        return self._text()

    def type(self, line: str) -> None:
        os.write(self._fd, line.encode() + b"\r")

    def end(self) -> int:
        """Wait for its end; the exit status."""
        while True:
            try:
                if not os.read(self._fd, 65536):
                    break
            except OSError:
                break
        return os.waitstatus_to_exitcode(os.waitpid(self.pid, 0)[1])


def test_talk_by_hand_is_saved_and_played_again(folder: Path) -> None:
    """Under a pseudo-terminal: EHLO, TLS, login, MAIL, RCPT, DATA; what was typed hidden stays so."""
    script = folder / "mine.session"
    with catching(folder, "--refuse", "gone@*") as (port, authority, _):
        command = [sys.executable, "-m", "copper_kite", "talk", f"localhost:{port}", "--trust", authority]
        terminal = Terminal(command, folder)
        answer = "AHRlcm4AdGhlLXF1YXktaXMtd2V0LTc3"  # base64 of \0tern\0PASSWORD
        for prompt, line, reply in (
            ("greet  >", "EHLO quay1.ternferries.example", "250 STARTTLS"),
            ("hello  >", "STARTTLS", "say EHLO again"),
            ("secure  >", "EHLO quay1.ternferries.example", "250 AUTH "),
            ("hello  >", "AUTH PLAIN", "334"),
            ("login  (hidden) >", answer, "235 2.7.0 logged in"),
            ("login  >", "MAIL FROM:<a@x.example>", "250 2.1.0"),
            ("sender  >", "RCPT TO:<gone@x.example>", "no mailbox of gone@x.example"),
            ("sender  >", "RCPT TO:<b@x.example>", "250 2.1.5"),
            ("recipient  >", "DATA", "a line of one dot ends it"),
            ("content  >", "Subject: by hand", ""),
            ("content  >", "", ""),
            ("content  >", ".dot", ""),
            ("content  >", ".", "250 2.0.0 taken as 000001"),
            ("hello  >", f":save {script}", "steps are in"),
        ):
            terminal.until(prompt)
            terminal.type(line)
            terminal.until(reply)
        terminal.until("hello  >")
        terminal.type("QUIT")
        terminal.until("221 2.0.0")
        terminal.type(":quit")
        assert terminal.end() == 0
        assert "secure  >" in terminal.heard and "(hidden) >" in terminal.heard and answer not in terminal.heard
        assert (folder / "caught" / "000001.eml").read_bytes() == b"Subject: by hand\r\n\r\n.dot\r\n"
        history = (folder / "state" / "copper-kite" / "talk-history").read_text()
        assert "MAIL FROM" in history and answer not in history and "by hand" not in history
        assert answer not in script.read_text()
        again = kite(
            "play", script, "--server", f"localhost:{port}", "--trust", authority, "--set", f"secret1={answer}"
        )
        assert again.returncode == 0, again.stdout.decode()
        assert (folder / "caught" / "000002.eml").read_bytes() == b"Subject: by hand\r\n\r\n.dot\r\n"


def test_talk_on_a_pipe(folder: Path) -> None:
    """The helpers, and the mistakes; secrets are masked; a stop ends it with a verdict and exit 4."""
    (folder / "mail.eml").write_bytes(MAIL)
    typed = (
        ":hello\n:login\n:tls\n:nonsense\nAUTH PLAIN AHRlcm4Ad3Jvbmc=\n:login\nMAIL FROM:<a@x.example>\nRCPT TO:<b@x.example>\n"
        f":content {folder}/mail.eml\n:offers\n:save {folder}/s.session\n:quit\n"
    )
    with catching(folder) as (port, authority, _):
        done = kite("talk", *meet(port, authority), stdin=typed.encode())
        text = done.stdout.decode()
        assert done.returncode == 4, "a login in clear stops it"
        assert "side      here" in text and "goes only under verified TLS" in text
        done = kite("talk", *meet(port, authority), stdin=typed.replace(":hello\n:login\n", ":hello\n").encode())
        text = done.stdout.decode()
        assert done.returncode == 0, text
        for words in (
            "no helper :nonsense",
            "AUTH PLAIN ***",
            "535 5.7.8",
            "?  localhost:",
            "logged in as tern",
            "taken as",
        ):
            assert words in text, words
        assert PASSWORD not in text and "AHRlcm4Ad3Jvbmc=" not in text + (folder / "s.session").read_text()
        secret: dict[str, Any] = {"secret1": "AHRlcm4Ad3Jvbmc="}
        again = kite(
            "play", folder / "s.session", "--server", *meet(port, authority), "--set", f"secret1={secret['secret1']}"
        )
        assert again.returncode == 0, again.stdout.decode()
    gone = kite("talk", f"localhost:{port}", stdin=b"EHLO x\n")
    assert gone.returncode == 4 and b"Nothing listens" in gone.stdout
