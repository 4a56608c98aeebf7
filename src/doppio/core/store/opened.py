"""The store of an installation, from what it is told of it."""

from collections.abc import Callable
from pathlib import Path

from doppio.core.fingerprint import fingerprint
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.store.far import FarFolder
from doppio.core.store.locks import Locks
from doppio.core.store.shared import SharedStore


def opened_store(
    folder: Path, address: str, *, most_gb: float = 0.0, locks: Callable[[str], Locks] | None = None
) -> ArtifactStore:
    """Artifacts of a local folder, or those at an address with a cache beside that folder.

    Parameters
    ----------
    address : str
        As `FarFolder` takes it; empty for the folder alone.
    most_gb : float
        GiB that the cache may hold; 0 for as much as there is.
    locks : callable or None
        From the address to locks that all machines see; only who writes needs them.
    """
    if not address:
        return ArtifactStore(folder)
    far = FarFolder(address)
    cache = folder.with_name(f"cache-{fingerprint(far.url)}")
    most = int(most_gb * (1 << 30)) if most_gb else None
    return SharedStore(cache, far, locks(far.url) if locks else None, most)
