"""Tern Island Ferries: a small ferry line whose whole day shows what the product does, on any machine."""
