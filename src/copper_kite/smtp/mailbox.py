"""An address as local part and domain, without the grammar: all that most of the product needs."""

from __future__ import annotations

__all__ = ["split_mailbox"]


def split_mailbox(path: str) -> tuple[str, str]:
    """Local part and domain; the domain is empty when there is none. A domain holds no `@`, so the last one splits."""
    if path.endswith('"'):
        return path, ""
    local, at, domain = path.rpartition("@")
    return (local, domain) if at else (path, "")
