"""The engine that is built in: SQLite for what is known of messages, files beside it for their content."""
