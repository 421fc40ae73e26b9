"""Where a library's files live: listing, reading, replacing atomically, grouping derived sizes."""
