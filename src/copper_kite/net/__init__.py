"""Sockets, TLS and names around the protocol.

`ServerSession` is a client's connection to one of our listeners, with a `Handler` that decides; `RelaySession` and
`ClientSession` are ours to others, opened by `connect_as` or `open_session` as a `Plan` says, and end early with
`SessionFailed`. What is said goes into a `Dialogue`.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from copper_kite.lazy import lazy_exports

if TYPE_CHECKING:
    from copper_kite.net.access_tokens import TokenSource, read_token_problems, token_source
    from copper_kite.net.addresses import MAX_ADDRESSES, AddressMemory, interleave
    from copper_kite.net.authority import CertificateFiles, make_authority
    from copper_kite.net.certificate import Certificate, certificate_end, read_certificate
    from copper_kite.net.client import ClientSession
    from copper_kite.net.conversation import FAREWELL_SECONDS, start_of
    from copper_kite.net.dane import TlsaFound, find_tlsa, why_no_match
    from copper_kite.net.demand import DANE, Demand, Tlsa
    from copper_kite.net.dialogue import NOTE, SERVER, SIGNS, Dialogue
    from copper_kite.net.failure import PassedOver, SessionFailed, SessionSeen, StageDone, Tried
    from copper_kite.net.oauth import (
        DeviceCode,
        TokenFailed,
        await_device_login,
        find_metadata,
        request_token,
        start_device_login,
    )
    from copper_kite.net.opening import closing_on_failure, connect_as, open_session
    from copper_kite.net.own import listens_at
    from copper_kite.net.peer import Peer, user_of
    from copper_kite.net.plan import Plan, Timeouts
    from copper_kite.net.policy import demanded
    from copper_kite.net.records import (
        SYSTEM,
        ZONE,
        DnsAnswer,
        Found,
        Lookups,
        all_on_this_machine,
        may_validate,
        system_resolvers,
    )
    from copper_kite.net.relaying import RelaySession
    from copper_kite.net.resolve import mail_exchangers, resolve_host
    from copper_kite.net.second_look import look_again, may_tell_more, open_looking, shown_chain
    from copper_kite.net.server import LATER, Answer, Handler, ServerSession
    from copper_kite.net.session_registry import SessionRegistry
    from copper_kite.net.sts import StsFailed, StsPolicies, StsPolicy, fetch_policy, parse_policy
    from copper_kite.net.submission import SubmissionService, submission_services
    from copper_kite.net.tls import PIN, Sessions, client_context, end_point_binding
    from copper_kite.net.tls_transport import TlsTransport
    from copper_kite.net.web import WebFailed, fetch

__getattr__, __all__ = lazy_exports(
    __name__,
    {
        "access_tokens": "TokenSource read_token_problems token_source",
        "addresses": "AddressMemory MAX_ADDRESSES interleave",
        "authority": "CertificateFiles make_authority",
        "certificate": "Certificate certificate_end read_certificate",
        "client": "ClientSession",
        "conversation": "FAREWELL_SECONDS start_of",
        "dane": "TlsaFound find_tlsa why_no_match",
        "demand": "DANE Demand Tlsa",
        "dialogue": "Dialogue NOTE SERVER SIGNS",
        "failure": "PassedOver SessionFailed SessionSeen StageDone Tried",
        "oauth": "DeviceCode TokenFailed await_device_login find_metadata request_token start_device_login",
        "opening": "closing_on_failure connect_as open_session",
        "own": "listens_at",
        "peer": "Peer user_of",
        "plan": "Plan Timeouts",
        "policy": "demanded",
        "records": "DnsAnswer Found Lookups SYSTEM ZONE all_on_this_machine may_validate system_resolvers",
        "relaying": "RelaySession",
        "resolve": "mail_exchangers resolve_host",
        "second_look": "look_again may_tell_more open_looking shown_chain",
        "server": "Answer Handler LATER ServerSession",
        "session_registry": "SessionRegistry",
        "sts": "StsFailed StsPolicies StsPolicy fetch_policy parse_policy",
        "submission": "SubmissionService submission_services",
        "tls": "PIN Sessions client_context end_point_binding",
        "tls_transport": "TlsTransport",
        "web": "WebFailed fetch",
    },
)
