"""Write the manual pages in man/ from the commands and from docs/configuration.md."""

from __future__ import annotations

import sys
from pathlib import Path

from copper_kite.cli import kite, manual_pages

if __name__ == "__main__":
    folder = Path(__file__).resolve().parent.parent / "man"
    pages = manual_pages(kite)
    if "--check" in sys.argv:
        found = {path.name: path.read_text() for path in folder.iterdir()}
        sys.exit(found != pages and "man/ is out of date: run docs/make_manual.py")
    folder.mkdir(exist_ok=True)
    for path in folder.iterdir():
        path.unlink()
    for name, text in pages.items():
        (folder / name).write_text(text)
