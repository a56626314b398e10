"""SMTP without I/O: bytes in, events out; decisions in, bytes out.

`Server` is a session seen from the server: it gives events (the module `events`), and is told decisions. The module
`client` is the other half: `Client`, and the commands it sends; `Transaction` drives one message through it. `sasl` has
the logins of both. Nothing here imports a socket, asyncio, ssl, time or logging; a contract keeps it so.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from copper_kite.lazy import lazy_exports

if TYPE_CHECKING:
    from copper_kite.smtp.client import typed_command
    from copper_kite.smtp.content import MAX_TEXT_LINE, ContentReader, Takes, local_line_ends, stuff
    from copper_kite.smtp.extensions import EXTENSIONS, Capabilities, Offers
    from copper_kite.smtp.grammar import Syntax, decode_xtext, encode_xtext, is_domain, is_mailbox
    from copper_kite.smtp.limits import Limits
    from copper_kite.smtp.mailbox import split_mailbox
    from copper_kite.smtp.masks import Masks
    from copper_kite.smtp.parameters import MAIL_PARAMETERS, RCPT_PARAMETERS
    from copper_kite.smtp.recorded import RecordedServer
    from copper_kite.smtp.replies import Reply, ReplyReader, printable, split_reply, visible
    from copper_kite.smtp.sasl import (
        MECHANISMS,
        SCRAM_ITERATIONS,
        SCRAM_LEAST,
        Binding,
        Directory,
        LoginCredentials,
        Mechanism,
        NoDirectory,
        PlainLogin,
        ProvenLogin,
        ScramKey,
        Secret,
        choose_mechanism,
        decode_base64,
        made_up_key,
        possible_mechanisms,
    )
    from copper_kite.smtp.server import Phase, Server
    from copper_kite.smtp.transaction import Envelope, Result, Transaction, incompatibility, mail_parameters, too_many

__getattr__, __all__ = lazy_exports(
    __name__,
    {
        "client": "typed_command",
        "content": "ContentReader MAX_TEXT_LINE Takes local_line_ends stuff",
        "extensions": "Capabilities EXTENSIONS Offers",
        "grammar": "Syntax decode_xtext encode_xtext is_domain is_mailbox",
        "limits": "Limits",
        "mailbox": "split_mailbox",
        "masks": "Masks",
        "parameters": "MAIL_PARAMETERS RCPT_PARAMETERS",
        "recorded": "RecordedServer",
        "replies": "Reply ReplyReader printable split_reply visible",
        "sasl": "Binding Directory LoginCredentials MECHANISMS Mechanism NoDirectory PlainLogin ProvenLogin"
        " SCRAM_ITERATIONS SCRAM_LEAST ScramKey Secret choose_mechanism decode_base64 made_up_key possible_mechanisms",
        "server": "Phase Server",
        "transaction": "Envelope Result Transaction incompatibility mail_parameters too_many",
    },
)
