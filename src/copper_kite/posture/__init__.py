"""Is it set up well: the configuration looked at as a whole."""
