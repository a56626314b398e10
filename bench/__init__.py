"""How fast it is, always as a ratio against a bare server in the same run: `python -m bench accept`, `python -m bench relay`."""
