"""The records in PostgreSQL: tables, migrations, queries. No decisions."""
