"""Encoders by name: each opened once, from the folders that an administrator registered."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

from doppio.core.errors import ModelFolderError
from doppio.core.models.encoder import Encoder, TextEncoder
from doppio.core.models.folder import MANIFEST, REMOTE, ModelFolder, open_folder
from doppio.core.models.remote import RemoteEncoder
from doppio.core.recipe import DEFAULT_ENCODER

# Not a folder: trained on the chunks that it is used for.
TRAINED, TRAINED_TITLE = "corpus-terms", "terms of this corpus, trained on it"


@dataclass
class Models:
    """Encoders from the folders below one folder."""

    root: Path
    threads: int | None = None
    _open: dict[str, TextEncoder] = field(default_factory=dict)
    _stamps: dict[str, int] = field(default_factory=dict)

    def encoder(self, name: str = DEFAULT_ENCODER) -> TextEncoder:
        """An encoder by its name.

        Raises
        ------
        ModelFolderError
            If there is none of that name, or its folder is not whole.
        """
        manifest = self.root / name / MANIFEST
        if not manifest.is_file():
            known = ", ".join([*sorted(folder.name for folder in self.listed()), TRAINED])
            raise ModelFolderError(
                f"{self.root / name}: no such model folder; there are {known}. "
                "'./doppio setup' installs the shipped one"
            )
        stamp = manifest.stat().st_mtime_ns
        if name not in self._open or self._stamps[name] != stamp:
            folder = open_folder(self.root / name)
            self._open[name] = (
                RemoteEncoder(folder) if folder.kind == REMOTE else Encoder(folder.path, threads=self.threads)
            )
            self._stamps[name] = stamp
        return self._open[name]

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
        found = []
        for place in sorted(self.root.glob(f"*/{MANIFEST}")):
            try:
                if not place.parent.name.startswith("."):
                    found.append(open_folder(place.parent))
            except ModelFolderError:
                continue
        return found


def titles(models: Models) -> Mapping[str, str]:
    """What people read, by the name that recipes use."""
    return {folder.name: folder.title for folder in models.listed()} | {TRAINED: TRAINED_TITLE}
