"""The parameters behind MAIL and RCPT that are stored and go on to the next hop: all of them, by their table."""

from __future__ import annotations

import pytest

from copper_kite.smtp.events import MailFrom, RecipientTo
from copper_kite.smtp.extensions import EXTENSIONS, Capabilities, Offers
from copper_kite.smtp.parameters import MAIL_PARAMETERS, RCPT_PARAMETERS
from copper_kite.smtp.transaction import Envelope, Transaction
from tests.smtp.test_client import ready as ready_client
from tests.smtp.test_server import Talk

EXAMPLES = {  # as a program writes them; a parameter that is added to the tables needs one here, and nothing else
    "AUTH": "AUTH=tern", "RET": "RET=HDRS", "ENVID": "ENVID=q7", "MT-PRIORITY": "MT-PRIORITY=4",
    "REQUIRETLS": "REQUIRETLS", "NOTIFY": "NOTIFY=NEVER", "ORCPT": "ORCPT=rfc822;b@x.example",
}  # fmt: skip


def taken(of_mail: str, of_rcpt: str) -> tuple[MailFrom, RecipientTo]:
    """What our server makes of an envelope with these parameters."""
    talk = Talk(Offers(max_size=1000, logins=("PLAIN",), priorities=True))
    talk.engine.secure = True
    commands = f"EHLO t.example\r\nMAIL FROM:<a@x.example> {of_mail}\r\nRCPT TO:<b@x.example> {of_rcpt}\r\n"
    assert talk.codes(commands.encode())[-2:] == ["250 2.1.0", "250 2.1.5"]
    mail, recipient = talk.seen[-2:]
    assert isinstance(mail, MailFrom) and isinstance(recipient, RecipientTo)
    return mail, recipient


def sent(envelope: Envelope, *offered: str) -> str:
    """What our client says of an envelope to a server that offers these extensions."""
    client = ready_client()
    client.capabilities = Capabilities(dict.fromkeys(("PIPELINING", *offered), ()))
    client.logged_in = True
    return Transaction(client, envelope).start().decode()


@pytest.mark.parametrize("name", [*MAIL_PARAMETERS, *RCPT_PARAMETERS])
def test_each_that_goes_on_is_kept_and_sent_where_its_extension_is_offered(name: str) -> None:
    parameter = (MAIL_PARAMETERS | RCPT_PARAMETERS)[name]
    assert parameter.extension in EXTENSIONS and (name in EXAMPLES) == parameter.goes_on
    if not parameter.goes_on:
        return
    of_mail, of_rcpt = (EXAMPLES[name], "") if name in MAIL_PARAMETERS else ("", EXAMPLES[name])
    mail, recipient = taken(of_mail, of_rcpt)
    written = EXAMPLES[name] if parameter.in_place is None else f"{name}={parameter.in_place}"
    assert written in (mail.esmtp_parameters, recipient.esmtp_parameters)
    each = (recipient.esmtp_parameters,)
    envelope = Envelope("a@x.example", ("b@x.example",), 9, False, False, mail.esmtp_parameters, each)
    assert f"> {written}\r\n" in sent(envelope, parameter.extension)
    assert name not in sent(envelope, *(other for other in EXTENSIONS if other != parameter.extension))
