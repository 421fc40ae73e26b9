"""The queue: jobs in PostgreSQL through procrastinate (``tasks``), and the advisory locks all workers
share."""
