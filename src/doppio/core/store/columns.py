"""Columns that grow part by part, in memory or in files."""

from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray


class Columns:
    """Arrays by name, each the parts that were added one after another.

    Parameters
    ----------
    scratch : Path or None
        A folder where they stand as files; None for memory.
    """

    def __init__(self, scratch: Path | None) -> None:
        self.scratch = scratch
        self._parts: dict[str, list[NDArray[Any]]] = {}
        self._rows: dict[str, int] = {}

    def add(self, name: str, part: NDArray[Any]) -> None:
        """Put rows behind those of a column."""
        held = self._parts.setdefault(name, [part[:0]])
        self._rows[name] = self._rows.get(name, 0) + len(part)
        if self.scratch is None:
            held.append(part)
            return
        self.scratch.mkdir(parents=True, exist_ok=True)
        with (self.scratch / name).open("ab" if self._rows[name] > len(part) else "wb") as file:
            np.ascontiguousarray(part).tofile(file)

    def taken(self) -> dict[str, NDArray[Any]]:
        """All columns, whole; those in files are mapped."""
        found = {}
        for name, parts in self._parts.items():
            shape = (self._rows[name], *parts[0].shape[1:])
            if self.scratch is None or not self._rows[name]:
                found[name] = np.concatenate(parts)
            else:
                found[name] = np.memmap(self.scratch / name, parts[0].dtype, "r", shape=shape)
        self._parts.clear()
        return found
