"""Copper Kite: a send-only mail server, its queue, its tester and its tracer, in one command."""

__all__ = ["__version__"]

__version__ = "0.1.0"
