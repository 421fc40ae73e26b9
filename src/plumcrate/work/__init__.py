"""The engine: surveys, runs, the queue, and the sandbox in which pictures are decoded."""
