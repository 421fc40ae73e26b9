"""What visitors get: the lightest file that their browser says it can show."""
