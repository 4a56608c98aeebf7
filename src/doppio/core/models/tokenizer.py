"""A registered tokenizer: what counts the tokens of a budget as the assistant's own model counts them."""

from collections.abc import Sequence
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from tokenizers import Tokenizer

from doppio.core.errors import ModelFolderError
from doppio.core.models.counting import TokenCounts
from doppio.core.models.folder import MANIFEST, TOKENIZER, checked_name, drafted, write_manifest
from doppio.core.text.units import Units

KIND = "tokenizer"


def offsets_by(tokenizer: Tokenizer, texts: Sequence[str]) -> list[Units]:
    """Ranges of the tokens of whole texts, special ones left out; `tokenizer` cuts nothing off."""
    found = []
    for encoding in tokenizer.encode_batch(list(texts), add_special_tokens=False):
        bounds = np.asarray(encoding.offsets, np.int64).reshape(-1, 2)
        found.append(Units(np.ascontiguousarray(bounds[:, 0]), np.ascontiguousarray(bounds[:, 1])))
    return found


class Tokens:
    """Cuts whole texts into the tokens of a `tokenizer.json`, special ones left out."""

    def __init__(self, folder: Path) -> None:
        path = folder / TOKENIZER
        if not path.is_file():
            raise ModelFolderError(f"{folder.name}: has no {TOKENIZER}, so nothing can be counted by it")
        try:
            self._tokenizer = Tokenizer.from_file(str(path))
        except Exception as error:
            raise ModelFolderError(f"{path}: cannot be loaded ({error})") from error
        self._tokenizer.no_truncation()
        self._tokenizer.no_padding()
        self._counts = TokenCounts(self._tokenizer)

    def token_offsets(self, texts: Sequence[str]) -> list[Units]:
        """Ranges of the tokens of whole texts."""
        return offsets_by(self._tokenizer, texts)

    def token_counts(self, texts: Sequence[str]) -> NDArray[np.int64]:
        """How many these are, of each text: (n,) int64."""
        return self._counts.of(texts)


def register_tokenizer(source: Path, root: Path, name: str, title: str = "") -> str:
    """Take a `tokenizer.json`, or a folder with one, into the models below `root`; returns its name.

    Raises
    ------
    ModelFolderError
        If there is none, or it cannot be loaded.
    """
    file = source / TOKENIZER if source.is_dir() else source
    if not file.is_file():
        raise ModelFolderError(f"{file}: missing")
    name = checked_name(name, source)
    with drafted(root / name) as draft:
        (draft / TOKENIZER).write_bytes(file.read_bytes())
        write_manifest(draft, {"kind": KIND, "name": name, "title": title or name})
        Tokens(draft)
    assert (root / name / MANIFEST).is_file()
    return name
