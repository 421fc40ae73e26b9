"""The report that a client gets: its figures, as CSV, and drawn as PDF."""
