"""Sessions that people and scripts hold: handing a message in, and stand-ins that take it."""
