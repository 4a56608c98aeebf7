"""Files that a command writes: whole, or not at all."""

import os
from pathlib import Path

from doppio.core.errors import DoppioError


def write_whole(path: Path, text: str) -> None:
    """Write a file, with a line end.

    Raises
    ------
    DoppioError
        If it cannot be written; what was there stays.
    """
    draft = path.with_name(f".{path.name}.{os.getpid()}")
    try:
        draft.write_text(text + "\n", encoding="utf-8")
        draft.replace(path)
    except OSError as error:
        draft.unlink(missing_ok=True)
        raise DoppioError(f"{path}: cannot be written ({error.strerror})") from error
