"""The folder of a fitted scorer: weights of other scorers and of plain facts, and nothing that is run."""

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from doppio.core.errors import ModelFolderError
from doppio.core.fingerprint import fingerprint
from doppio.core.models.answerable import Answerable
from doppio.core.models.folder import FORMAT, MANIFEST, drafted, read_json, write_manifest
from doppio.core.models.scorer_folder import Calibration

FITTED = "fitted-scorer"
PREFIX = "fitted-"


@dataclass(frozen=True)
class Weight:
    """What one scorer or fact counts: weight x (value - centre) / spread."""

    weight: float
    centre: float
    spread: float


@dataclass(frozen=True)
class FittedFolder:
    """A fitted scorer.

    scorers : names of the scorers whose scores it weighs, by which their weights are named too
    facts : names of the facts
    weights : by the name of a scorer or a fact
    window, windows : how its scorers read, as in a recipe
    calibration : how its scores become probabilities
    answerable : says how likely anything answers; None where that was not learned
    """

    name: str
    title: str
    scorers: tuple[str, ...]
    facts: tuple[str, ...]
    weights: Mapping[str, Weight]
    window: int | None
    windows: int | None
    calibration: Calibration
    answerable: Answerable | None = None

    @property
    def shipped(self) -> bool:
        """Whether it came with the product, and was not fitted to a workspace's labels."""
        return not self.name.startswith(PREFIX)

    def to_json(self) -> dict[str, Any]:
        """As a manifest without its name; `from_json` gives the same back."""
        return {
            "title": self.title,
            "scorers": list(self.scorers),
            "facts": list(self.facts),
            "weights": {name: vars(weight) for name, weight in self.weights.items()},
            "window": self.window,
            "windows": self.windows,
            "calibration": vars(self.calibration),
            **({"answerable": self.answerable.to_json()} if self.answerable else {}),
        }

    @classmethod
    def from_json(cls, name: str, body: Mapping[str, Any], where: str) -> "FittedFolder":
        """Read a manifest.

        Raises
        ------
        ModelFolderError
            If a field is missing or wrong; names it.
        """
        try:
            scorers, facts = tuple(map(str, body["scorers"])), tuple(map(str, body["facts"]))
            weights = {
                str(key): Weight(*(float(value[part]) for part in ("weight", "centre", "spread")))
                for key, value in body["weights"].items()
            }
            calibration = Calibration(float(body["calibration"]["slope"]), float(body["calibration"]["offset"]))
            window, windows = body["window"], body["windows"]
            title = str(body["title"])
            answerable = Answerable.from_json(body["answerable"]) if body.get("answerable") else None
        except (KeyError, TypeError, ValueError, AttributeError) as error:
            raise ModelFolderError(f"{where}: {error} is missing or is not what it should be") from error
        lacking = [key for key in (*scorers, *facts) if key not in weights]
        numbers = [part for one in weights.values() for part in vars(one).values()]
        if lacking or not np.isfinite(numbers).all() or any(one.spread <= 0 for one in weights.values()):
            raise ModelFolderError(f"{where}: weights: {', '.join(lacking) or 'a number'} is missing or out of range")
        return cls(name, title, scorers, facts, weights, window, windows, calibration, answerable)


def named(body: Mapping[str, Any]) -> str:
    """The name of a fitted scorer, which is that of its weights: the same ones have the same name everywhere."""
    return PREFIX + fingerprint({**body, "title": ""})[:12]


def write_fitted(root: Path, folder: FittedFolder) -> None:
    """Write a fitted scorer's folder below `root`, atomically; one of labels that is there is the same."""
    target = root / folder.name
    if (target / MANIFEST).is_file() and not folder.shipped:
        return
    with drafted(target) as draft:
        write_manifest(draft, {"kind": FITTED, "name": folder.name, **folder.to_json()})


def open_fitted(path: Path) -> FittedFolder:
    """Read a fitted scorer's folder.

    Raises
    ------
    ModelFolderError
        If it is missing, or a field is missing or wrong; names it.
    """
    manifest = read_json(path / MANIFEST)
    if manifest.get("format") != FORMAT or manifest.get("kind") != FITTED:
        raise ModelFolderError(f"{path / MANIFEST}: kind: is no {FITTED}")
    return FittedFolder.from_json(path.name, manifest, str(path / MANIFEST))
