"""The Python client library: :class:`Client`, its counterpart :class:`AsyncClient`, and their errors."""

from .async_clients import AsyncClient
from .clients import Client
from .errors import ClientError, ProblemError, UnreachableError, WrongAnswerError, WrongNameError

__all__ = [
    "AsyncClient",
    "Client",
    "ClientError",
    "ProblemError",
    "UnreachableError",
    "WrongAnswerError",
    "WrongNameError",
]
