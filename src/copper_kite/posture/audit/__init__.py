"""Weaknesses of a configuration that works: each risk with its possible harm and its cure."""

from __future__ import annotations

from copper_kite.posture.audit.run import Audited, audit_configuration
from copper_kite.posture.audit.surroundings import Surroundings, look_around
from copper_kite.posture.audit.weakness import RISKS, Weakness

__all__ = ["RISKS", "Audited", "Surroundings", "Weakness", "audit_configuration", "look_around"]
