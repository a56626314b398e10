"""The engine for several servers: one queue in a PostgreSQL database that they share."""
