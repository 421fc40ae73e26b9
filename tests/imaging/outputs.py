"""What came of a treatment, for tests."""

from plumcrate.imaging import Chosen, Output


def data_of(output: Output) -> bytes | None:
    """The bytes of an output that was chosen, None of one that was refused."""
    return output.data if isinstance(output, Chosen) else None
