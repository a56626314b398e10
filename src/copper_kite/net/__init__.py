"""Sockets, TLS and names around the protocol: the server's session, the client's session, and their dialogue."""
