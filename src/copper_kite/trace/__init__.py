"""A message's story: what happened to it, in order, and the verdict."""
