"""`kite metrics`."""

from __future__ import annotations

import sys
import time

import click

from copper_kite.cli.shared.options import load_settings

__all__ = ["metrics"]

FORMS = {"prometheus": "text/plain", "openmetrics": "application/openmetrics-text"}


@click.command()
@click.option(
    "--form", type=click.Choice(list(FORMS)), default="prometheus", show_default=True, help="The text form to print."
)
@click.pass_obj
def metrics(config: str | None, form: str) -> None:
    """Print what `/metrics` answers, without opening its port: for collectors that read files.

    [metrics] bind in the configuration has the server answer monitoring programs itself, also at /health and /live.
    """
    from copper_kite.monitoring import Totals, render, take_readings

    readings = take_readings(load_settings(config), Totals(), time.time())
    sys.stdout.buffer.write(render(readings, FORMS[form])[0])
