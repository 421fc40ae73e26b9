"""How files become records: connecting a library, surveys, arrivals from watching, webhooks and uploads.

All of them go through one reconciler (``reconciling``), with ``moving`` for what is ours under another name,
``families`` for whose rendition a file is, ``headers`` for what a file's first bytes say.
"""
