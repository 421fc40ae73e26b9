"""What pictures say to those who do not see them.

``rules`` judges a text, ``languages`` knows a language by its small words; both are pure. ``known`` gathers
what is known of pictures, ``listing`` shows it, ``changing`` and ``bulk`` change texts, one or many, with
undo. ``delimited`` and ``xliff`` read and write files, ``exchange`` and ``terms`` take them in. ``reading``
is the job that reads what files say of themselves. Others import ``listing``, ``changing``, ``bulk``,
``exchange``, ``terms`` and ``reading``.
"""
