"""The made-up world of the Gannet Ledge Light Trust, its stand-in site, and the one-command start."""
