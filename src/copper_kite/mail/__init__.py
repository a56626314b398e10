"""Messages as such: their header, their trace fields, what is added to them and notices about them (RFC 5322)."""
