"""`python -m copper_kite` is the command `kite`."""

from copper_kite.entry import main

main()
