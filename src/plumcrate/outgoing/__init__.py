"""The one way out: whatever connects to an address that others gave goes through here.

* :class:`Guard` says which addresses on the network may be reached.
* :class:`Outgoing` asks by HTTP, guarded, and bounded in bytes and time.

The browser that weighs pages goes out through the tunnel of :mod:`plumcrate.pages`, which asks the same
guard."""

from .client import CannotReach, Outgoing, OutgoingAnswer, host_of
from .guard import Forbidden, Guard

__all__ = ["CannotReach", "Forbidden", "Guard", "Outgoing", "OutgoingAnswer", "host_of"]
