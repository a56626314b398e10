"""The configuration: its model, how it is read, and the secrets beside it."""
