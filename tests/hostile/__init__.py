"""Peers that misbehave by chance, against the real delivery and the real listener, in a network without sockets."""
