"""Changing a file without ever losing one: backup, journal, exchange, ledger, restore, recovery."""
