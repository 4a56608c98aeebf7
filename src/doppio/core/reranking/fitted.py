"""Fitted scorers: weights of other scorers and of plain facts, fitted to labels; those that ship, on manuals."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from doppio.core.errors import ModelFolderError
from doppio.core.kinds import Setting, Settings
from doppio.core.models.fitted_folder import FittedFolder, named, open_fitted
from doppio.core.models.joint import JointScorer, Passage, Scored, Share
from doppio.core.models.registry import Models
from doppio.core.reranking.facts.kind import FACTS, Floats, Shortlist
from doppio.core.reranking.kind import Offered, kind_of_scorer, own_settings
from doppio.core.reranking.late_interaction import LateInteraction, opened, token_needs
from doppio.core.reranking.step import FirstStage, PairsKept, Reranker, Weighed
from doppio.core.reranking.windowed import Candidate, reading_of
from doppio.core.store.pieces import Maker, Needs, Opening, Planning

MEASURE = "log-odds by fitted weights"


@dataclass(frozen=True)
class Known:
    """What weights can be given to: the scores of scorers, then facts."""

    scorers: Reranker
    late: LateInteraction
    facts: tuple[str, ...]

    @property
    def names(self) -> list[str]:
        return [*(part.scorer.name for part in self.scorers.parts), *self.facts]

    def of(
        self, question: str, candidates: Sequence[Candidate], first: FirstStage
    ) -> tuple[Floats, tuple[Scored, ...]]:
        """(n, f) float64, a column a name; and what the scorers said."""
        said = self.scorers.score(question, candidates, first)
        asked, weights, held = self.late.tokens(question, [one.chunk for one in candidates])
        above = self.late.encoder.token_ids([" ".join((one.title, *one.headings)) for one in candidates])
        shortlist = Shortlist(
            question, candidates, first.fused.astype(np.float64), first.branches, asked, weights, held, above
        )
        columns = [one.scores.astype(np.float64) for one in said]
        columns += [FACTS.get(name).of(shortlist) for name in self.facts]
        return np.stack(columns, axis=1), said


class FittedScorer:
    """A weighted sum of what is known of a pair, as log-odds; what stands beside it has no part in it."""

    measure = MEASURE
    blend = 0.0

    def __init__(self, folder: FittedFolder, known: Known) -> None:
        self.name, self.calibration, self.answerable = folder.name, folder.calibration, folder.answerable
        self.known, self._folder = known, folder
        self._weights = [folder.weights[name] for name in known.names]
        self.digest = named(folder.to_json()) + known.scorers.digest

    def keeping(self, kept: PairsKept) -> "FittedScorer":
        """The same, whose scorers keep what they say of pairs."""
        return FittedScorer(self._folder, replace(self.known, scorers=self.known.scorers.keeping(kept)))

    def score(self, question: str, passages: Sequence[Passage]) -> Scored:
        raise ModelFolderError(f"{self.name}: weighs what is known of a shortlist, so it scores no other passages")

    def judge(self, question: str, candidates: Sequence[Candidate], first: FirstStage) -> Scored:
        """Scores of a shortlist; windows are those of the first scorer that read some."""
        values, said = self.known.of(question, candidates, first)
        shares = []
        for name, column, one in zip(self.known.names, values.T, self._weights, strict=True):
            added = one.weight * np.nan_to_num((column - one.centre) / one.spread, nan=0.0)
            title = FACTS.get(name).title if name in self.known.facts else name
            shares.append(Share(name, title, one.weight, added.astype(np.float32)))
        scores = np.stack([share.added for share in shares]).sum(axis=0, dtype=np.float64)
        windows = next((one.windows for one in said if any(one.windows)), (None,) * len(candidates))
        return Scored(scores.astype(np.float32), windows, tuple(shares))


class Fitted:
    """Those that ship, and those that were fitted to the labels of a workspace."""

    name, title, order = "fitted", "fitted to labels", 3
    settings: tuple[Setting, ...] = ()
    makers: Sequence[Maker] = ()

    def offers(self, models: Models) -> list[Offered]:
        return [
            Offered(
                folder.name,
                folder.title,
                calibrated=True,
                answerable=folder.answerable is not None,
                alone=False,
                fitted=True,
                shipped=folder.shipped,
            )
            for folder in models.fitted()
        ]

    def needs(self, name: str, planning: Planning) -> Needs:
        folder = open_fitted(planning.models.root / name)
        found = dict(token_needs(planning).pieces)
        for scorer in folder.scorers:
            inner = kind_of_scorer(scorer, planning.models).needs(scorer, planning)
            found |= {f"{scorer} {key}": piece for key, piece in inner.pieces.items()}
        return Needs(found)

    def open(self, name: str, settings: Settings, opening: Opening) -> JointScorer:
        folder = open_fitted(opening.models.root / name)
        return FittedScorer(folder, known_of(folder.scorers, folder.window, folder.windows, opening, folder.facts))

    def alone(self, name: str, models: Models) -> JointScorer:
        raise ModelFolderError(f"{name}: weighs what is known of a shortlist, so it scores no other passages")


def known_of(
    scorers: Sequence[str], window: int | None, windows: int | None, opening: Opening, facts: Sequence[str]
) -> Known:
    """Open scorers and facts over an index."""
    parts = []
    for name in scorers:
        kind = kind_of_scorer(name, opening.models)
        own = replace(opening, needs=kind.needs(name, opening))
        parts.append(Weighed(kind.open(name, own_settings(kind, {}), own)))
    tokens = replace(opening, needs=token_needs(opening))
    reading = reading_of({"window": window, "windows": windows}, tokens)
    return Known(Reranker(tuple(parts), reading), opened(tokens), tuple(facts))


KIND = Fitted()
