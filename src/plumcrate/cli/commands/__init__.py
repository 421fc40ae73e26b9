"""The commands, by noun. Each module adds its own to the parser."""
