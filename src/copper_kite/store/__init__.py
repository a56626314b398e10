"""The queue and the journal. Nobody outside this package writes SQL or knows the engine behind it."""
