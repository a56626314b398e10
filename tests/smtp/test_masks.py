"""Secrets in what a server says: found in every form they may have, and nothing else is touched."""

from __future__ import annotations

import base64
from urllib.parse import quote

import pytest

from copper_kite.smtp.masks import MASK, Masks
from copper_kite.smtp.replies import Reply

PASSWORD = "wax wing/é 7!"
PLAIN = b"\0tern\0" + PASSWORD.encode()


def masks(*, thorough: bool = True) -> Masks:
    result = Masks([PASSWORD])
    result.sent(PLAIN)
    result.thorough = thorough
    return result


def in_base64(octets: bytes) -> str:
    return base64.b64encode(octets).decode()


@pytest.mark.parametrize(
    "form",
    [
        PASSWORD,
        quote(PASSWORD),
        quote(PASSWORD, safe="").lower(),
        in_base64(PASSWORD.encode()),
        in_base64(PASSWORD.encode()).rstrip("="),
        in_base64(PLAIN),
        PASSWORD.encode().hex(),
    ],
)
def test_each_form_is_masked_during_the_login_and_after_it(form: str) -> None:
    for thorough in (True, False):
        assert masks(thorough=thorough).text(f"not <{form}> here") == f"not <{MASK}> here"


@pytest.mark.parametrize(
    "form",
    [
        in_base64(PLAIN)[:16],  # a part of what was sent
        in_base64(b"x" + PLAIN),  # at another place of the base64
        in_base64(b"you sent " + PASSWORD.encode()),
        base64.urlsafe_b64encode(b"??>" + PASSWORD.encode()).decode(),
        "AUTHPLAIN" + in_base64(PLAIN),
    ],
)
def test_parts_and_wrappings_are_masked_during_the_login(form: str) -> None:
    said = masks().reply(Reply(535, "5.7.8", "wrong", f"AUTH PLAIN {form} is wrong"))
    assert form not in str(said) and MASK in str(said) and said.code == 535 and said.lines[0] == "wrong"


def test_what_holds_no_secret_stays_the_same() -> None:
    reply = Reply(250, "2.0.0", "kept as 0DB30H15G0, queue id 4cK2Zx1f9Qz on mail.beaconpost.example, wax wing")
    assert masks().reply(reply) is reply
    assert Masks(["", "a"]).text("a") == "a", "what is in every text cannot be looked for"
