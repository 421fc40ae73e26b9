"""Checking the machine and the libraries: everything fine, or exactly what to do."""
