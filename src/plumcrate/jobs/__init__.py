"""Long work on a library: ``long_work`` starts, follows and ends it; the others are its kinds, and
``schedules``."""
