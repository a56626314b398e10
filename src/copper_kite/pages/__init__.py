"""The pages of `docs/` that `kite help` shows without a network, and the manual pages of the commands."""
