"""From a behaviour's file to a stand-in that can be started: its offers, its certificate, its TLS."""

from __future__ import annotations

import ssl
import warnings
from collections.abc import Mapping
from pathlib import Path

from copper_kite.net import CertificateFiles, end_point_binding, make_authority
from copper_kite.session.behaviour import Behaviour, TlsTable
from copper_kite.session.standin import StandInPlan
from copper_kite.smtp import Limits, Offers, Secret

__all__ = ["stage_stand_in"]

_NEWEST = {"1.1": ssl.TLSVersion.TLSv1_1, "1.2": ssl.TLSVersion.TLSv1_2, "1.3": ssl.TLSVersion.TLSv1_3}
OLD_CIPHERS = "AES128-SHA:ECDHE-ECDSA-AES128-SHA:@SECLEVEL=0"  # what no careful client offers any more


def stage_stand_in(
    behaviour: Behaviour,
    folder: Path,
    logins: Mapping[str, Secret],
    files: CertificateFiles | None = None,
) -> StandInPlan:
    """The plan of a stand-in that keeps its messages in `folder`, with `files` or a certificate made there.

    Raises OSError or ssl.SSLError when a certificate cannot be used.
    """
    tls, offers = behaviour.tls, behaviour.offers
    context = binding = authority = None
    if tls.mode != "off":
        names = list(dict.fromkeys([behaviour.name, "localhost", "127.0.0.1", "::1"]))
        fault = "none" if tls.certificate == "good" else tls.certificate
        files = files or make_authority(folder / "tls", names, fault)
        context = _context(tls, files)
        authority = files.authority if fault not in ("self-signed", "no intermediate") else None
        if any(name.endswith("-PLUS") for name in offers.mechanisms):
            binding = end_point_binding(ssl.PEM_cert_to_DER_cert(files.certificate.read_text()))
    return StandInPlan(
        name=behaviour.name,
        folder=folder,
        tls=tls.mode,
        context=context,
        binding=binding,
        authority=authority,
        logins=dict(logins),
        login_required=offers.login == "required",
        rules=behaviour.rules(),
        seed=behaviour.seed,
        allowance=behaviour.allowance,
        limits=Limits(recipients=offers.recipients, messages=offers.messages),
        loose_end=offers.loose_end,
        offers=Offers(
            max_size=offers.size,
            keeps_size=offers.keeps_size,
            starttls=tls.mode == "starttls" and "STARTTLS" not in offers.withhold,
            logins=tuple(offers.mechanisms) if logins else (),
            clear_logins=tls.mode == "off" or offers.login_in_clear,
            withheld=frozenset(offers.withhold),
            priorities=True,
        ),
    )


def _context(tls: TlsTable, files: CertificateFiles) -> ssl.SSLContext:
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    if tls.certificate == "weak" or tls.newest == "1.1":
        context.set_ciphers("ALL:@SECLEVEL=0")  # else the library would not even show it
    if tls.ciphers == "old":
        context.set_ciphers(OLD_CIPHERS)
        context.maximum_version = ssl.TLSVersion.TLSv1_2
    context.load_cert_chain(files.certificate, files.key)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # that 1.1 is out of use is what it is here for
        if tls.newest == "1.1":
            context.minimum_version = ssl.TLSVersion.MINIMUM_SUPPORTED
        if tls.newest != "1.3":
            context.maximum_version = _NEWEST[tls.newest]
    if tls.client_certificate:
        context.verify_mode = ssl.CERT_REQUIRED
        context.load_verify_locations(files.authority)
    return context
