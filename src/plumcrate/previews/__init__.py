"""Small pictures: previews for lists, placeholders for pages, and the facts that pages are rewritten with."""
