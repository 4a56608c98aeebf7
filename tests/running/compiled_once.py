"""What one lane compiles, another waits for and takes from disk; else both were busy with the same."""

import fcntl
import hashlib
import os
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from numba.core.caching import NullCache
from numba.core.compiler_lock import global_compiler_lock
from numba.core.dispatcher import Dispatcher


def compile_once() -> None:
    """From now on this process and those that it forks compile a function that is kept on disk one at a time."""
    folder = Path(os.environ.get("NUMBA_CACHE_DIR", tempfile.gettempdir())) / "being-compiled"
    folder.mkdir(parents=True, exist_ok=True)
    compile_now = Dispatcher.compile
    held: set[Path] = set()

    @contextmanager
    def alone(place: Path) -> Iterator[None]:
        if place in held:
            yield
            return
        with place.open("w") as lock:
            fcntl.flock(lock, fcntl.LOCK_EX)
            held.add(place)
            try:
                yield
            finally:
                held.remove(place)

    def compile_alone(self: Any, signature: Any) -> Any:
        if isinstance(self._cache, NullCache):
            return compile_now(self, signature)
        name = f"{self.py_func.__module__}.{self.py_func.__qualname__}"
        # Functions call each other in no circle, so no two processes wait for each other; threads take turns.
        with global_compiler_lock, alone(folder / hashlib.sha256(name.encode()).hexdigest()[:16]):
            return compile_now(self, signature)

    Dispatcher.compile = compile_alone
