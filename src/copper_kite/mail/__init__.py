"""Messages as such (RFC 5322): their header, their trace fields, what is added to them, and notices about them.

`take_in` makes of a submission what is kept; `to_seven_bits` and `to_lines` encode what a next hop cannot take;
`make_notice` writes notices, and `read_notice` reads those of others; a `Signer` signs, and `check_signature` checks.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from copper_kite.lazy import lazy_exports

if TYPE_CHECKING:
    from copper_kite.mail.auth_results import Checked, parse_results
    from copper_kite.mail.compose import Parts, compose_message, padding, split_address
    from copper_kite.mail.dkim import (
        GOOD_RSA_BITS,
        SIGNED_FIELDS,
        SIGNING_KINDS,
        BadTags,
        BodyDigest,
        KeyUnusable,
        PublishedKey,
        Signature,
        SignatureResult,
        SignedMessage,
        Signer,
        SigningKey,
        Unsigned,
        check_signature,
        key_record,
        make_signing_key,
        parse_key_record,
        parse_signatures,
        parse_tags,
        read_signing_key,
        split_fields,
    )
    from copper_kite.mail.dsn_parser import Returned, ReturnedFor, read_notice
    from copper_kite.mail.encoded import ascii_header
    from copper_kite.mail.header import all_values, decode_words, header_end, header_fields, scan_header
    from copper_kite.mail.labelled import mended
    from copper_kite.mail.mbox import mbox_entry, mbox_lines, mbox_messages
    from copper_kite.mail.mend import mend_message, normalise_line_ends
    from copper_kite.mail.notice import MAX_RETURNED, NoticeRecipient, make_notice, make_text_message
    from copper_kite.mail.parts import mime_parts
    from copper_kite.mail.readdress import author_domain, authors, complete_addresses, leave_under
    from copper_kite.mail.received import format_date, protocol_word, received_field, received_from
    from copper_kite.mail.received_parser import Hop, parse_received
    from copper_kite.mail.sevenbit import to_lines, to_seven_bits
    from copper_kite.mail.submitted import Completion, Submitted, header_length, take_in

__getattr__, __all__ = lazy_exports(
    __name__,
    {
        "auth_results": "Checked parse_results",
        "compose": "Parts compose_message padding split_address",
        "dkim": "GOOD_RSA_BITS SIGNED_FIELDS SIGNING_KINDS"
        " BadTags BodyDigest KeyUnusable PublishedKey Signature SignatureResult SignedMessage"
        " Signer SigningKey Unsigned check_signature key_record make_signing_key parse_key_record parse_signatures"
        " parse_tags read_signing_key split_fields",
        "dsn_parser": "Returned ReturnedFor read_notice",
        "encoded": "ascii_header",
        "header": "all_values decode_words header_end header_fields scan_header",
        "labelled": "mended",
        "mbox": "mbox_entry mbox_lines mbox_messages",
        "mend": "mend_message normalise_line_ends",
        "notice": "MAX_RETURNED NoticeRecipient make_notice make_text_message",
        "parts": "mime_parts",
        "readdress": "author_domain authors complete_addresses leave_under",
        "received": "format_date protocol_word received_field received_from",
        "received_parser": "Hop parse_received",
        "sevenbit": "to_lines to_seven_bits",
        "submitted": "Completion Submitted header_length take_in",
    },
)
