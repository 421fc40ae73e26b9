"""The command line: ``plumcrate``. Talks to the service through the client library."""
