"""The running server: what comes in, what goes next, one attempt, and the life of it all."""
