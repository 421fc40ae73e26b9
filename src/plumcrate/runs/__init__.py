"""Runs: which files are treated or restored, in what order, and each file's way through.

``runs`` makes and controls them; ``items`` keeps the records of their items; ``turns``, ``steps`` and
``faults`` are an item's states; ``treating`` treats one file, ``duplicates`` spares it; ``allowance`` counts
per month.
"""
