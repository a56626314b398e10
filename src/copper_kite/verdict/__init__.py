"""From codes, stages and causes to what they mean, on whose side, and what to do. The knowledge is `knowledge.toml`."""
