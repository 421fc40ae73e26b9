"""What the client raises."""

from __future__ import annotations

from plumcrate.contract.common import Problem


class ClientError(Exception):
    """Base of all errors of the client."""


class UnreachableError(ClientError):
    """The service does not answer at its address."""


class WrongNameError(ClientError, ValueError):
    """A name that no address can hold."""


class WrongAnswerError(ClientError):
    """What came is no answer of a service of ours: something else stands at its address, or in between."""


class ProblemError(ClientError):
    """The service answered with a problem. ``code`` is the last part of the problem's type;
    ``retry_after``: seconds after which to try again, where the service says so."""

    def __init__(self, problem: Problem, retry_after: float | None = None) -> None:
        super().__init__(f"{problem.title}: {problem.detail}" if problem.detail else problem.title)
        self.problem = problem
        self.code = problem.type.rpartition(":")[2]
        self.status = problem.status
        self.retry_after = retry_after
