"""How fast it is, always as a ratio against a yardstick in the same run: `python -m bench accept`, `relay`, `help`."""
