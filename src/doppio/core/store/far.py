"""A folder that several machines see: of an object store or a shared file system, by the address that fsspec reads.

What is written stands there whole or not at all: object stores put an object at once, and elsewhere a file is written
beside its name and moved to it.
"""

import errno
import os
import time
import uuid
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from functools import cache
from pathlib import Path
from typing import Any

from doppio.core.errors import StoreUnreachable
from doppio.core.store.manifest import READ_BYTES

# Protocols whose objects appear whole.
AT_ONCE = frozenset({"s3", "s3a", "gs", "gcs", "abfs", "abfss", "az", "oss", "memory"})
# Seconds for which a store that did not answer is not asked.
SILENT = 10.0
# Errors of this machine's disk and not of the store.
HERE = frozenset({errno.ENOSPC, errno.EDQUOT, errno.EROFS})

# Until when stores are not asked, by their address, and what they said.
_silent: dict[str, tuple[float, str]] = {}


class FarFolder:
    """See the module; names in it have slashes.

    Parameters
    ----------
    url : str
        Such as `s3://bucket/folder` or `file:///shared/folder`. How to get in comes from what the protocol's own
        package reads: its environment variables and files.
    """

    def __init__(self, url: str) -> None:
        self.url = url.rstrip("/")

    def check(self) -> None:
        """Write, read and delete a file: whether all that is needed may be done there; see `read` for errors."""
        name, body = f"checks/{uuid.uuid4().hex}", b"doppio"
        self.write(name, body)
        try:
            if self.read(name) != body:
                raise StoreUnreachable(f"{self.url}: gives back something else than was written")
        except FileNotFoundError as error:
            raise StoreUnreachable(f"{self.url}: does not show what was written") from error
        finally:
            self.remove([name])

    def read(self, name: str) -> bytes:
        """All of a file.

        Raises
        ------
        FileNotFoundError
            If there is none.
        StoreUnreachable
            If the store does not answer, here as everywhere.
        """
        with self._told() as (system, root):
            found: bytes = system.cat_file(f"{root}/{name}")
        return found

    def read_all(self, names: Sequence[str]) -> dict[str, bytes]:
        """Several files at once; those that are not there are left out."""
        if not names:
            return {}
        with self._told() as (system, root):
            paths = {system._strip_protocol(f"{root}/{name}"): name for name in names}
            found = system.cat(list(paths), on_error="return")
            for one in found.values():
                if isinstance(one, Exception) and not isinstance(one, FileNotFoundError):
                    raise one
        return {paths[path]: body for path, body in found.items() if isinstance(body, bytes)}

    def write(self, name: str, body: bytes) -> None:
        """Write a file, whole or not at all."""
        with self._told() as (system, root):
            self._put(system, f"{root}/{name}", lambda path: system.pipe_file(path, body))

    def send(self, path: Path, name: str) -> None:
        """Write a file from one that is here; one of that name and size is there already."""
        with self._told() as (system, root):
            target = f"{root}/{name}"
            with suppress(FileNotFoundError):
                if system.size(target) == path.stat().st_size:
                    return
            self._put(system, target, lambda there: system.put_file(str(path), there))

    def fetch(self, name: str, path: Path) -> None:
        """Copy a file to one that is here.

        Raises
        ------
        FileNotFoundError
            If there is none.
        OSError
            If there is no room for it here.
        """
        with self._told() as (system, root):
            system.get_file(f"{root}/{name}", str(path))

    def blocks(self, name: str) -> Iterator[bytes]:
        """A file part by part."""
        with self._told() as (system, root):
            size = system.size(f"{root}/{name}")
        for first in range(0, size, READ_BYTES):
            with self._told() as (system, root):
                block = system.cat_file(f"{root}/{name}", start=first, end=min(first + READ_BYTES, size))
            yield block

    def has(self, name: str) -> bool:
        with self._told() as (system, root):
            try:
                system.info(f"{root}/{name}")
            except FileNotFoundError:
                return False
        return True

    def names(self, folder: str) -> list[str]:
        """Names of all files below a folder, in order; none where it is not there."""
        with self._told() as (system, root):
            base = system._strip_protocol(root)
            try:
                found = system.find(f"{root}/{folder}")
            except FileNotFoundError:
                return []
        return sorted(path[len(base) + 1 :] for path in found if not Path(path).name.startswith("."))

    def remove(self, names: Sequence[str]) -> None:
        """Delete files; one that is not there is no error."""
        with self._told() as (system, root):
            for name in names:
                with suppress(FileNotFoundError):
                    system.rm_file(f"{root}/{name}")

    def _put(self, system: Any, target: str, write: Callable[[str], None]) -> None:
        if AT_ONCE & _protocols(system):
            write(target)
            return
        parent, name = target.rsplit("/", 1)
        system.makedirs(parent, exist_ok=True)
        draft = f"{parent}/.{name}.{uuid.uuid4().hex}"
        try:
            write(draft)
            system.mv(draft, target)
        except BaseException:
            with suppress(Exception):
                system.rm_file(draft)
            raise

    @contextmanager
    def _told(self) -> Iterator[tuple[Any, str]]:
        """The file system and this folder in it; what goes wrong there is told as one error.

        One that did not answer is not asked again at once: those who wait for it would wait for each other.
        """
        until, before = _silent.get(self.url, (0.0, ""))
        if time.monotonic() < until:
            raise StoreUnreachable(before)
        try:
            yield _opened(self.url, os.getpid())
        except (FileNotFoundError, StoreUnreachable):
            raise
        except OSError as error:
            if error.errno in HERE:
                raise
            raise self._unreachable(error) from error
        except Exception as error:
            raise self._unreachable(error) from error

    def _unreachable(self, error: Exception) -> StoreUnreachable:
        said = f"{self.url}: does not answer as a store of artifacts ({str(error) or type(error).__name__})"
        _silent[self.url] = time.monotonic() + SILENT, said
        return StoreUnreachable(said)


@cache
def _opened(url: str, process: int) -> tuple[Any, str]:
    """The file system of an address, and the path in it. It belongs to a process: a forked one opens its own."""
    # Imported when it is wanted: most installations keep everything in a local folder.
    from fsspec.core import url_to_fs

    # What others write is to be seen at once.
    system, root = url_to_fs(url, use_listings_cache=False, skip_instance_cache=True)
    return system, root


def _protocols(system: Any) -> set[str]:
    own = system.protocol
    return {own} if isinstance(own, str) else set(own)
