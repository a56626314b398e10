"""What is recorded of a session holds no login, whatever a client does."""

from __future__ import annotations

import pytest

from copper_kite.smtp.extensions import Offers
from copper_kite.smtp.recorded import RecordedServer
from copper_kite.smtp.replies import Reply

SECRET = b"AHRlcm4AbWFkZS11cA=="  # PLAIN, of a made-up password


@pytest.mark.parametrize(
    ("lines", "shown"),
    [
        ([b"AUTH PLAIN " + SECRET], "AUTH PLAIN ***"),
        ([b"auth  PLAIN " + SECRET], "auth  ***"),
        ([b"AUTH PLAIN", SECRET], "***"),  # AUTH is not offered: it is no answer, but a line that is no command
        ([b" AUTH PLAIN " + SECRET], "***"),
        ([b"AUTH\tPLAIN " + SECRET], "***"),
        ([b"NOOP"], "NOOP"),
    ],
)
def test_no_login_is_recorded(lines: list[bytes], shown: str) -> None:
    heard: list[str] = []
    replies: list[Reply] = []
    server = RecordedServer("quay1.example", Offers(), None, None, heard.append, replies.append, heard.append)
    for line in (b"EHLO tern.example", *lines):
        server.receive_data(line + b"\r\n")
        if server.asking:
            server.answer()
    assert heard[0] == "EHLO tern.example" and heard[-1] == shown and SECRET.decode() not in str(heard)
