"""SMTP without I/O: bytes in, events out; decisions in, bytes out.

Nothing here imports a socket, asyncio, ssl, time or logging; a test keeps it so.
"""
