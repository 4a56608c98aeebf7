"""How long work tells how far it is, and learns that it should stop."""

from typing import Protocol


class Progress(Protocol):
    """Receives the progress of long work; an implementation may raise `Cancelled` from `advance`."""

    def start(self, step: str, total: int, unit: str) -> None:
        """Begin a step of `total` units (`unit` in the plural, such as "chunks")."""

    def advance(self, count: int) -> None:
        """Count `count` more units as done."""


class Silent:
    """A progress that nobody watches."""

    def start(self, step: str, total: int, unit: str) -> None:
        return None

    def advance(self, count: int) -> None:
        return None
