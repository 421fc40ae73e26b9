"""Weighing real pages: in a real browser behind walls, or plainly from their markup."""
