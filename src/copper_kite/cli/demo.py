"""`kite demo`."""
