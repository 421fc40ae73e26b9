"""The worker process: loops, lanes and jobs. ``python -m plumcrate.worker`` starts one.

``process`` puts it together, ``engine`` carries out jobs, ``feeding`` keeps the queue filled, ``loops`` and
``lanes`` supervise, ``settling`` recovers what dead workers left.
"""
