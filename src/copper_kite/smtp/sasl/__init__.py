"""SASL (RFC 4422, RFC 4954): logins from both sides, without I/O. Secrets never show in a repr."""

from copper_kite.smtp.sasl.base import Challenge, Directory, Exchange, LoginCredentials, Mechanism, NoDirectory, Outcome
from copper_kite.smtp.sasl.registry import MECHANISMS, choose_mechanism, possible_mechanisms
from copper_kite.smtp.sasl.scram_keys import SCRAM_ITERATIONS, SCRAM_LEAST, ScramKey, made_up_key
from copper_kite.smtp.sasl.values import Binding, PlainLogin, ProvenLogin, Secret, decode_base64, prepare

__all__ = [
    "MECHANISMS",
    "SCRAM_ITERATIONS",
    "SCRAM_LEAST",
    "Binding",
    "Challenge",
    "Directory",
    "Exchange",
    "LoginCredentials",
    "Mechanism",
    "NoDirectory",
    "Outcome",
    "PlainLogin",
    "ProvenLogin",
    "ScramKey",
    "Secret",
    "choose_mechanism",
    "decode_base64",
    "made_up_key",
    "possible_mechanisms",
    "prepare",
]
