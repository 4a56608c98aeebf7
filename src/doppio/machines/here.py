"""What a worker process has at hand; it is said once, when the process begins."""

import os
import socket

from doppio.core.errors import DoppioError
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.store.crew import Place
from doppio.core.store.shared import SharedStore

_here: list[Place] = []
_wrong = ["was not started by './doppio worker': it has no models and no artifacts; stop it, and start one with it"]


def settle(place: Place) -> None:
    """Say what this process has at hand."""
    _here[:] = [place]


def unsettled(wrong: str) -> None:
    """Say why this process has nothing at hand."""
    _wrong[:] = [wrong]


def here() -> Place:
    """What this process has at hand.

    Raises
    ------
    DoppioError
        If it is no worker of Doppio's, or could not begin.
    """
    if not _here:
        raise DoppioError(f"a worker on {socket.gethostname()} {_wrong[0]}")
    return _here[0]


def name_of(store: ArtifactStore) -> str:
    """What a store is known by: the same for all who see the same artifacts."""
    if isinstance(store, SharedStore):
        return store.far.url
    return f"{socket.gethostname()}:{os.path.realpath(store.root)}"
