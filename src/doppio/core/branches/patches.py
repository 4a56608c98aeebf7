"""Pages by patches: a page scores by how well each word of the question is met by a patch of it.

An encoder that reads pictures into a grid describes the patches by what can be seen on them. Any other describes them
by the words that stand there: those of the text of a page, and those that are read on scans and on pictures.

References
----------
.. [1] O. Khattab, M. Zaharia, "Efficient and Effective Passage Search via Contextualized Late Interaction over BERT",
   SIGIR 2020: the best of many vectors for each word.
.. [2] M. Faysse and others, "Efficient Document Retrieval with Vision Language Models", ICLR 2025: patches of pages.
"""

from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from doppio.core.branches.explained import Explained
from doppio.core.branches.kind import BYTES, DENSE, Branch, Figure
from doppio.core.branches.many.index import Asked
from doppio.core.branches.many.making import opened_codes
from doppio.core.branches.patch.index import Part, PatchIndex
from doppio.core.branches.patch.making import CODES, MAKERS, PATCHES, Patches, patch_needs
from doppio.core.branches.query import Allowed, Query
from doppio.core.chunking.table import ChunkTexts
from doppio.core.fingerprint import fingerprint
from doppio.core.fusion.pouring import Ranking
from doppio.core.kernels.spans import THREADS
from doppio.core.kinds import Setting, Settings, choice, encoder, number, whole
from doppio.core.models.encoder import TextEncoder
from doppio.core.models.registry import DEFAULT_ENCODER, TRAINED
from doppio.core.store.pieces import Facts, Maker, Needs, Opening, Planning

PICTURE_TOKEN = "picture"


@dataclass(frozen=True)
class PatchMatch:
    """One token of the question on a sheet.

    best : which patch it likes best
    cosines : (p,) float32, with every patch
    """

    token: str
    weight: float
    best: int
    cosines: NDArray[np.float32]


@dataclass(frozen=True)
class Shaded:
    """A sheet, and how well a question is met on it.

    page, picture : as of a `Sheet`
    places : (p, 4), left, top, right and bottom of the patches as shares of the sheet
    """

    page: int
    picture: int
    score: float
    places: NDArray[np.float64]
    matches: Sequence[PatchMatch]


def _of_words(weights: NDArray[np.float32], texts: Sequence[str]) -> NDArray[np.float32]:
    """The same without those of marks, which seldom stand on a page and say nothing; all where there is no word."""
    words = np.array([any(sign.isalnum() for sign in text) for text in texts], bool)
    kept = np.where(words, weights, 0)
    total = float(kept.sum())
    return (kept / total).astype(np.float32) if total else weights


@dataclass(frozen=True)
class PatchBranch:
    """An opened branch of patches."""

    settings: Settings
    index: PatchIndex
    words: TextEncoder
    texts: ChunkTexts

    measure = "weighted mean of best patch cosines, -1 to 1"
    least = -1.0
    encoder = None

    @property
    def sees(self) -> bool:
        """Whether it can be asked by a picture."""
        return self.words.sight is not None and self.words.sight.grid is not None

    def search_many(self, questions: Sequence[str], vectors: NDArray | None, depth: int) -> list[Ranking]:
        return self.search_asked([Query(text) for text in questions], vectors, depth, None)

    def search_asked(
        self, queries: Sequence[Query], vectors: NDArray | None, depth: int, allowed: Allowed
    ) -> list[Ranking]:
        """Rank chunks for each question, by the sheets that they stand on."""

        def one(query: Query) -> Ranking:
            return self.index.search(self._asked(query)[0], depth, self.settings, allowed)

        if len(queries) == 1:
            return [one(queries[0])]
        with ThreadPoolExecutor(THREADS) as pool:
            return list(pool.map(one, queries))

    def _asked(self, query: Query) -> tuple[Asked, list[str]]:
        """A question as vectors of its tokens and of the patches of its picture, and what these are called."""
        parts: list[tuple[NDArray[np.float32], NDArray[np.float32], list[str]]] = []
        share = query.share if query.picture is not None and self.sees else 0.0
        if not query.wordless:
            told = self.words.asked_tokens(query.text)
            weights = self.index.weights(told.ids, len(told.vectors))
            parts.append((told.vectors, _of_words(weights, told.texts), list(told.texts)))
        if query.picture is not None and self.words.sight is not None and (share or (self.sees and query.wordless)):
            (seen,) = self.words.sight.see([query.picture])
            count = len(seen.patches[0])
            parts.append((seen.patches[0], self.index.weights(None, count), [PICTURE_TOKEN] * count))
        if not parts:
            return Asked(np.empty((0, self.words.dimension), np.float32), np.empty(0, np.float32)), []
        shares = [1.0] if len(parts) == 1 else [1 - share, share]
        vectors = np.concatenate([own for own, _, _ in parts])
        each = [own * part for (_, own, _), part in zip(parts, shares, strict=True)]
        names = [name for _, _, own in parts for name in own]
        return Asked(vectors, np.concatenate(each).astype(np.float32)), names

    def shaded(self, query: Query, chunk: int) -> list[Shaded]:
        """The sheets that a chunk stands on, the best first, and which patch answers which word."""
        asked, names = self._asked(query)
        sheets = {fingerprint(one.digest): one for one in self.texts.sheets([chunk])[0]}
        found = []
        for own in self.index.of(chunk):
            sheet = sheets.get(own.digest)
            if sheet is None or not len(own.vectors) or not names:
                continue
            cosines = own.vectors @ asked.vectors.T
            matches = [
                PatchMatch(name, float(weight), int(column.argmax()), column)
                for name, weight, column in zip(names, asked.weights, cosines.T, strict=True)
            ]
            score = sum(match.weight * float(match.cosines[match.best]) for match in matches)
            found.append(Shaded(sheet.page, sheet.picture, score, own.laid.places(own.cells), matches))
        return sorted(found, key=lambda one: -one.score)

    @property
    def figures(self) -> list[Figure]:
        index = self.index
        each = index.patches / max(index.sheets, 1)
        own = index.code_bytes / max(index.patches, 1)
        return [
            Figure(index.sheets, "pages and pictures"),
            Figure(index.patches, f"patches, {each:.0f} a page"),
            Figure(index.full_bytes, "of them, mapped from disk", BYTES),
            Figure(index.code_bytes, f"of codes, {own:.0f} bytes a patch", BYTES),
        ]

    def explain(self, question: str, chunks: Sequence[int]) -> list[Explained]:
        return []


class PatchesKind:
    """See the module."""

    name, title, order = "patches", "pages, patch by patch", 9
    family = DENSE
    makers: Sequence[Maker] = MAKERS
    settings: tuple[Setting, ...] = (
        encoder("encoder", "Encoder of words and patches", DEFAULT_ENCODER, built=True),
        whole("rows", "Rows of patches", 2, 128, 20, built=True, help="where the encoder has no grid of its own"),
        whole("columns", "Columns of patches", 2, 128, 15, built=True,
              help="where the encoder has no grid of its own"),
        choice("codes", "Codes", {"8": "8 bits a number", "2": "2 bits a number", "1": "1 bit a number"}, "1",
               built=True, help="fewer bits take less memory; full vectors on disk score again"),
        whole("cells", "Cells, 0: by size", 0, 65_536, 0, built=True),
        whole("probes", "Cells looked into for each word", 1, 65_536, 16),
        number("over_fetch", "Over-fetch, times the depth", 1, 100, 4),
    )  # fmt: skip

    def problems(self, branch: Settings) -> Iterator[tuple[str, str]]:
        if branch["encoder"] == TRAINED:
            yield "encoder", f"{TRAINED} gives no vectors of tokens; choose another encoder"

    def needs(self, branch: Settings, planning: Planning) -> Needs:
        return patch_needs(branch, planning)

    def open(self, branch: Settings, opening: Opening) -> Branch:
        both = zip(opening.over(PATCHES), opening.over(CODES), strict=True)
        parts = [Part(Patches.opened(own), opened_codes(codes), now) for (own, now), (codes, _) in both]
        return PatchBranch(branch, PatchIndex(parts), opening.models.encoder(branch["encoder"]), opening.texts)

    def facts(self, branch: Settings, built: Sequence[Facts]) -> list[str]:
        counted = [facts["sheets"] for facts in built if "sheets" in facts]
        return [f"{max(counted):,} pages by patches"] if counted else ["pages by patches"]


KIND = PatchesKind()
