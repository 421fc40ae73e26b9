"""The sandbox: child processes in which strangers' bytes are decoded, shut in and limited in time and memory.

Others import ``children`` (:class:`~.children.Sandbox`, the pools), ``pace`` (who waits for the work),
``rewriting`` (pages rewritten in a child) and ``kernels`` (compiled once). The rest belongs to the room:
``forkserver`` and ``child`` are the other side of the sockets, ``containment`` shuts a child in, ``wire``
carries treatments as data.
"""
