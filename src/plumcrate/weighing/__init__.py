"""Weighing pages of a library's site: whose pictures they show, what a recipe would make of them, how they
look, and what is kept of it."""
