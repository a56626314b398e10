"""`python -m copper_kite` is the command `kite`."""

from copper_kite.cli.main import main

main()
