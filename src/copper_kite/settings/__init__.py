"""The configuration: its model, how it is read and changed, and the secrets beside it.

`load_configuration` reads and checks `kite.toml` and gives a `Loaded`; `Document` edits it and keeps its comments.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from copper_kite.lazy import lazy_exports

if TYPE_CHECKING:
    from copper_kite.settings.accepted import Accepted
    from copper_kite.settings.accounts import ACCOUNTS
    from copper_kite.settings.alarm import ALARM_KINDS, Alarm, ReportSettings
    from copper_kite.settings.compare import Difference, compare_settings
    from copper_kite.settings.domain import DomainSettings
    from copper_kite.settings.edit import Block, Document, EditFailed, toml_value, write_file
    from copper_kite.settings.everybody import is_everybody
    from copper_kite.settings.explain import parse_toml, read_file, read_source
    from copper_kite.settings.find import Sketch, find_file, sketch
    from copper_kite.settings.first_configuration import (
        ALARMS,
        Answers,
        credential_name,
        default_binds,
        first_text,
        own_name,
    )
    from copper_kite.settings.fleet_file import Fleet, FleetServer, read_fleet
    from copper_kite.settings.load import (
        Loaded,
        data_folder_in,
        data_folder_of,
        examine_configuration,
        find_config,
        load_configuration,
        load_source,
        secret_file,
    )
    from copper_kite.settings.locate import locate_key
    from copper_kite.settings.model import (
        DEFAULT_PORTS,
        Account,
        Connector,
        Guard,
        Listener,
        Settings,
        model_of,
    )
    from copper_kite.settings.networks import is_within
    from copper_kite.settings.recording import LEVELS, Log, Metrics
    from copper_kite.settings.schema import json_schema
    from copper_kite.settings.secrets import Credential, OAuthClient, check_credential, read_credentials
    from copper_kite.settings.server_tls import server_context
    from copper_kite.settings.service_units import NAME, STATE, service_unit, socket_unit
    from copper_kite.settings.signing import Signing, signing_domain
    from copper_kite.settings.signing_keys import key_of, unusable_keys
    from copper_kite.settings.store_keys import StoreKeys
    from copper_kite.settings.table import Table
    from copper_kite.settings.transfer import export_text, import_into, parse_part
    from copper_kite.settings.units import (
        NEARLY,
        Allowance,
        Endpoint,
        Pace,
        host_of,
        parse_allowance,
        parse_duration,
        parse_endpoint,
        parse_instant,
        parse_pace,
        parse_size,
    )
    from copper_kite.settings.value_types import AllowanceOf, Duration, Size, check_address, check_domain
    from copper_kite.settings.values import Assignment, apply_assignments, parse_assignment, shown_value

__getattr__, __all__ = lazy_exports(
    __name__,
    {
        "accepted": "Accepted",
        "accounts": "ACCOUNTS",
        "alarm": "ALARM_KINDS Alarm ReportSettings",
        "compare": "Difference compare_settings",
        "domain": "DomainSettings",
        "edit": "Block Document EditFailed toml_value write_file",
        "everybody": "is_everybody",
        "explain": "parse_toml read_file read_source",
        "find": "Sketch find_file sketch",
        "first_configuration": "ALARMS Answers credential_name default_binds first_text own_name",
        "load": "Loaded data_folder_in data_folder_of examine_configuration find_config load_configuration"
        " load_source secret_file",
        "fleet_file": "Fleet FleetServer read_fleet",
        "locate": "locate_key",
        "model": "Account Connector DEFAULT_PORTS Guard Listener Settings model_of",
        "networks": "is_within",
        "recording": "LEVELS Log Metrics",
        "schema": "json_schema",
        "secrets": "Credential OAuthClient check_credential read_credentials",
        "server_tls": "server_context",
        "service_units": "NAME STATE service_unit socket_unit",
        "signing": "Signing signing_domain",
        "signing_keys": "key_of unusable_keys",
        "store_keys": "StoreKeys",
        "table": "Table",
        "transfer": "export_text import_into parse_part",
        "units": "Allowance Endpoint NEARLY Pace host_of parse_allowance parse_duration parse_endpoint"
        " parse_instant parse_pace parse_size",
        "value_types": "AllowanceOf Duration Size check_address check_domain",
        "values": "Assignment apply_assignments parse_assignment shown_value",
    },
)
