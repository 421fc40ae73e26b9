"""Where a library's files live, behind the small protocol :class:`~.store.Store`."""
