"""A branch: chunks score by the runs of letters that they share with the question."""

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import csr_matrix

from doppio.core.branches.explained import Explained, TermShare
from doppio.core.branches.kind import SPARSE, Branch
from doppio.core.fingerprint import fingerprint
from doppio.core.fusion.pouring import Ranking
from doppio.core.kinds import Setting, Settings, number, whole
from doppio.core.ranking import best_of
from doppio.core.store.pieces import (
    Arrays,
    Building,
    Costing,
    Estimate,
    Facts,
    Merging,
    Needs,
    Opening,
    Piece,
    Planning,
    Source,
    texts_in_parts,
)

ARTIFACT, STEP, WIDTH = "letter-runs", "count runs of letters", 1 << 14


def runs(text: str, length: int) -> Counter[str]:
    folded = "".join(sign for sign in text.casefold() if sign.isalnum())
    return Counter(folded[at : at + length] for at in range(len(folded) - length + 1))


def column(run: str) -> int:
    return int(fingerprint(run), 16) % WIDTH


class Maker:
    kinds: Mapping[str, str] = {ARTIFACT: STEP}
    wholes: Sequence[str] = ()
    order = 1

    def make(self, lacking: Sequence[tuple[int, Piece]], building: Building) -> None:
        for place, piece in lacking:
            building.progress.start(STEP, building.count(place), "chunks")
            columns, begins = [], [0]
            for text in texts_in_parts(building.texts.indexed, building.numbers(place)):
                columns += sorted({column(run) for run in runs(text, piece.facts["length"])})
                begins.append(len(columns))
                building.progress.advance(1)
            arrays = {"columns": np.array(columns, np.int32), "begins": np.array(begins, np.int64)}
            building.write(piece, place, arrays)

    def merge(
        self, kind: str, sources: Sequence[Source], count: int, meta: Facts, merging: Merging
    ) -> tuple[Arrays, Facts] | None:
        rows: list[NDArray] = [np.empty(0, np.int32)] * count
        for source in sources:
            begins, columns = source.artifact.arrays["begins"], source.artifact.arrays["columns"]
            for row, now in enumerate(source.now.tolist()):
                if now >= 0:
                    rows[now] = columns[begins[row] : begins[row + 1]]
        begins = np.concatenate([[0], np.cumsum([len(row) for row in rows])]).astype(np.int64)
        return {"columns": np.concatenate([np.empty(0, np.int32), *rows]), "begins": begins}, {}

    def cost(self, piece: Piece, chunks: int, tokens: int, costing: Costing) -> Estimate:
        return Estimate(chunks / costing.rate(STEP, 1000.0), tokens * 16.0, tokens * 16.0)


MAKER = Maker()


@dataclass(frozen=True)
class Opened:
    settings: Settings
    segments: Sequence[tuple[csr_matrix, NDArray]]
    measure = "share of the question's runs of letters, 0 to 1"
    encoder = None

    def search_many(self, questions: Sequence[str], vectors: NDArray | None, depth: int) -> list[Ranking]:
        return [self._search(question, depth) for question in questions]

    def _search(self, question: str, depth: int) -> Ranking:
        asked = {column(run) for run in runs(question, self.settings["length"])}
        parts = []
        for held, now in self.segments:
            scores = np.asarray(held[:, sorted(asked)].sum(axis=1)).ravel() / max(len(asked), 1)
            numbers = now if now.size else np.arange(held.shape[0])
            there = (scores >= self.settings["least"]) & (scores > 0) & (numbers >= 0)
            parts.append((numbers[there].astype(np.int64), scores[there]))
        return best_of(parts, depth)

    def explain(self, question: str, chunks: Sequence[int]) -> list[Explained]:
        asked = runs(question, self.settings["length"])
        found = []
        for chunk in chunks:
            share = 1 / max(len({column(run) for run in asked}), 1)
            terms = [
                TermShare(run, count, 1, 0, 1.0, share)
                for run, count in asked.items()
                if any(held[row, column(run)] for held, row in self._rows(chunk))
            ]
            found.append(Explained(terms, 0.0, []))
        return found

    def _rows(self, chunk: int) -> Iterator[tuple[csr_matrix, int]]:
        for held, now in self.segments:
            rows = np.flatnonzero(now == chunk) if now.size else [chunk]
            yield from ((held, int(row)) for row in rows)


class Letters:
    name, title, family = "letters", "runs of letters", SPARSE
    makers = (MAKER,)
    settings: tuple[Setting, ...] = (
        whole("length", "Letters of a run", 2, 8, 3, built=True),
        number("least", "Least share", 0, 1, 0.0, help="what shares less is not found"),
    )

    def problems(self, branch: Settings) -> Iterator[tuple[str, str]]:
        return iter(())

    def needs(self, branch: Settings, planning: Planning) -> Needs:
        length = branch["length"]
        return Needs({"runs": Piece(ARTIFACT, fingerprint("runs", length), {"length": length}, MAKER)})

    def open(self, branch: Settings, opening: Opening) -> Branch:
        segments = []
        for artifact, now in opening.over("runs"):
            columns, begins = artifact.arrays["columns"], artifact.arrays["begins"]
            shape = len(begins) - 1, WIDTH
            segments.append((csr_matrix((np.ones(len(columns), np.float32), columns, begins), shape=shape), now))
        return Opened(branch, segments)

    def facts(self, branch: Settings, built: Sequence[Facts]) -> list[str]:
        return [f"runs of {branch['length']}"]


KIND = Letters()
