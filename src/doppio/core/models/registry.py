"""Encoders and joint scorers by name: each opened once, from the folders that an administrator registered."""

import os
import threading
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from functools import lru_cache
from pathlib import Path
from typing import Any, TypeVar

from doppio.core.errors import ModelFolderError
from doppio.core.kinds import ANSWERER, EXPANDER, WRITER
from doppio.core.models.cross_encoder import CrossEncoder
from doppio.core.models.encoder import Encoder, TextEncoder
from doppio.core.models.fitted_folder import FITTED, FittedFolder, open_fitted
from doppio.core.models.folder import MANIFEST, REMOTE, TOKENIZER, ModelFolder, kind_of, open_folder
from doppio.core.models.joint import JointScorer
from doppio.core.models.kept_scores import KeptScores
from doppio.core.models.remote import RemoteEncoder, RemoteScorer
from doppio.core.models.remote_text import RemoteAnswerer, RemoteExpander, RemoteWriter
from doppio.core.models.scorer_folder import KINDS, REMOTE_SCORER, ScorerFolder, open_scorer_folder
from doppio.core.models.text_folder import TEXTS, TextFolder, open_text_folder
from doppio.core.models.tokenizer import KIND as TOKENIZER_KIND
from doppio.core.models.tokenizer import Tokens

T = TypeVar("T")
DEFAULT_ENCODER = "compact-english"
# Not a folder: trained on the chunks that it is used for.
TRAINED, TRAINED_TITLE = "corpus-terms", "terms of this corpus, trained on it"


@dataclass
class Models:
    """Encoders and joint scorers from the folders below one folder."""

    root: Path
    threads: int | None = None
    _open: dict[str, tuple[int, Any]] = field(default_factory=dict)
    _opening: dict[str, Any] = field(default_factory=dict, repr=False, compare=False)

    def encoder(self, name: str = DEFAULT_ENCODER) -> TextEncoder:
        """An encoder by its name.

        Raises
        ------
        ModelFolderError
            If there is none of that name, or its folder is not whole.
        """
        found: TextEncoder = self._kept_open(name, "encoder", self._encoders, self._open_encoder)
        return found

    def _encoders(self) -> list[str]:
        return [*(folder.name for folder in self.listed()), TRAINED]

    def scorer(self, name: str) -> JointScorer:
        """A joint scorer by its name; it keeps what it said of the last pairs.

        Raises
        ------
        ModelFolderError
            If there is none of that name, or its folder is not whole.
        """

        def known() -> list[str]:
            return [folder.name for folder in self.scorers()]

        found: JointScorer = self._kept_open(name, "scorer", known, self._open_scorer)
        return found

    def writer(self, name: str) -> RemoteWriter:
        """A writer by its name; errors as those of `encoder`."""
        return self._elsewhere(name, WRITER, RemoteWriter)

    def answerer(self, name: str) -> RemoteAnswerer:
        """An answerer by its name; errors as those of `encoder`."""
        return self._elsewhere(name, ANSWERER, RemoteAnswerer)

    def expander(self, name: str) -> RemoteExpander:
        """An expander by its name; errors as those of `encoder`."""
        return self._elsewhere(name, EXPANDER, RemoteExpander)

    def _elsewhere(self, name: str, what: str, made: Callable[[TextFolder], T]) -> T:
        def known() -> list[str]:
            return [folder.name for folder in self.texts() if TEXTS[folder.kind] == what]

        return self._kept_open(name, what, known, lambda path: made(open_text_folder(path)))

    def tokenizer(self, name: str) -> Tokens:
        """The tokens of a registered tokenizer, or of a model that runs here; errors as those of `encoder`."""
        known = sorted(path.parent.name for path in self.root.glob(f"*/{TOKENIZER}"))
        if name not in known:
            raise ModelFolderError(f"{name}: no such tokenizer; there are {', '.join(known)}")
        return self._opened_once(f"tokens of {name}", self.root / name / TOKENIZER, lambda: Tokens(self.root / name))

    def tokenizers(self) -> list[str]:
        """Names of those that were registered to count with alone."""
        found = sorted(self.root.glob(f"*/{TOKENIZER}"))
        return [path.parent.name for path in found if kind_of(path.parent) == TOKENIZER_KIND]

    def _kept_open(self, name: str, what: str, known: Callable[[], list[str]], opened: Callable[[Path], T]) -> T:
        manifest = self.root / name / MANIFEST
        if not manifest.is_file():
            raise ModelFolderError(
                f"{self.root / name}: no such model folder; there are {', '.join(sorted(known()))}. "
                "'./doppio setup' installs the shipped ones"
            )
        if _sort_of(kind_of(manifest.parent)) != what:
            raise ModelFolderError(f"{name}: is no {what}; there are {', '.join(sorted(known()))}")
        return self._opened_once(name, manifest, lambda: opened(manifest.parent))

    def _opened_once(self, key: str, file: Path, opened: Callable[[], T]) -> T:
        """What was opened, until its file is another. Who wants what somebody opens waits for it: opened twice it
        would take twice the time and memory."""
        stamp = file.stat().st_mtime_ns
        with self._opening.setdefault(key, threading.RLock()):
            if key not in self._open or self._open[key][0] != stamp:
                self._open[key] = stamp, opened()
            found: T = self._open[key][1]
        return found

    def _open_encoder(self, path: Path) -> TextEncoder:
        folder = open_folder(path)
        return RemoteEncoder(folder) if folder.kind == REMOTE else Encoder(path, threads=self.threads)

    def _open_scorer(self, path: Path) -> JointScorer:
        folder = open_scorer_folder(path)
        remote = folder.kind == REMOTE_SCORER
        return KeptScores(RemoteScorer(folder) if remote else CrossEncoder(path, threads=self.threads))

    def local(self, name: str = DEFAULT_ENCODER) -> Encoder:
        """The encoder of that name where it runs here and gives tokens, or else the shipped one."""
        found = self.encoder(name) if name != TRAINED else None
        if isinstance(found, Encoder) and found.gives_tokens:
            return found
        shipped = self.encoder(DEFAULT_ENCODER)
        assert isinstance(shipped, Encoder)
        return shipped

    def listed(self) -> list[ModelFolder]:
        """Manifests of all registered encoders, by name; folders that are not whole are left out."""
        return self._folders(open_folder, lambda kind: kind not in (*KINDS, *TEXTS, TOKENIZER_KIND, FITTED))

    def texts(self) -> list[TextFolder]:
        """Manifests of what answers with text elsewhere, by name; folders that are not whole are left out."""
        return self._folders(open_text_folder, lambda kind: kind in TEXTS)

    def scorers(self) -> list[ScorerFolder]:
        """Manifests of all registered joint scorers, by name; folders that are not whole are left out."""
        return self._folders(open_scorer_folder, lambda kind: kind in KINDS)

    def fitted(self) -> list[FittedFolder]:
        """All fitted scorers, by name; folders that are not whole are left out."""
        return self._folders(open_fitted, lambda kind: kind == FITTED)

    def _folders(self, opened: Callable[[Path], T], wanted: Callable[[str], bool]) -> list[T]:
        found = []
        for place in sorted(self.root.glob(f"*/{MANIFEST}")):
            if place.parent.name.startswith("."):
                continue
            stamp = _stamp(place.parent)
            if wanted(_kind(place.parent, stamp)) and (folder := _whole(opened, place.parent, stamp)) is not None:
                found.append(folder)
        return found


Stamp = tuple[tuple[str, int, int, int], ...]


def _stamp(folder: Path) -> Stamp:
    """Another one whenever a file of a folder is another, comes or goes."""
    found = [(entry.name, entry.stat()) for entry in os.scandir(folder) if entry.is_file()]
    return tuple(sorted((name, told.st_mtime_ns, told.st_size, told.st_ino) for name, told in found))


@lru_cache(maxsize=256)
def _kind(folder: Path, stamp: Stamp) -> str:
    try:
        return kind_of(folder)
    except ModelFolderError:
        return ""


@lru_cache(maxsize=256)
def _whole(opened: Callable[[Path], T], folder: Path, stamp: Stamp) -> T | None:
    """A folder's manifest; None where it is not whole."""
    try:
        return opened(folder)
    except ModelFolderError:
        return None


def _sort_of(kind: str) -> str:
    """What a folder of some kind holds, as people call it."""
    sorts = {**dict.fromkeys(KINDS, "scorer"), **TEXTS, TOKENIZER_KIND: "tokenizer"}
    return sorts.get(kind, "encoder")


def titles(models: Models) -> Mapping[str, str]:
    """What people read, by the name that recipes use."""
    encoders = {folder.name: folder.title for folder in models.listed()} | {TRAINED: TRAINED_TITLE}
    scorers = {folder.name: folder.title for folder in models.scorers()}
    return encoders | scorers | {folder.name: folder.title for folder in models.fitted()}
