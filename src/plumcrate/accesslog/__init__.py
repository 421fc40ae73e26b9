"""Access logs of web servers, read as streams: what was sent, by day and path, and nothing of who asked."""
