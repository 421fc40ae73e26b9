"""What the client raises."""

from __future__ import annotations

from plumcrate.contract.common import Problem


class ClientError(Exception):
    """Base of all errors of the client."""


class UnreachableError(ClientError):
    """The service does not answer at its address."""


class ProblemError(ClientError):
    """The service answered with a problem. ``code`` is the last part of the problem's type."""

    def __init__(self, problem: Problem) -> None:
        super().__init__(f"{problem.title}: {problem.detail}" if problem.detail else problem.title)
        self.problem = problem
        self.code = problem.type.rpartition(":")[2]
        self.status = problem.status
