"""From questions to what the branches find: conditions, search terms, other wordings, and one ranking a branch."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from doppio.core.at_hand import kept
from doppio.core.branches.kind import Branch
from doppio.core.branches.query import Query, search
from doppio.core.branches.spread import left_out
from doppio.core.chunking.table import ChunkTable, ChunkTexts
from doppio.core.fusion.pouring import Ranking
from doppio.core.kinds import Settings
from doppio.core.models.encoder import check_finite
from doppio.core.models.remote_text import Writer
from doppio.core.question.conditions import allowed_chunks, read_conditions, together
from doppio.core.question.joins.kind import JOINS
from doppio.core.question.kind import Wording
from doppio.core.question.reading import (
    NOTHING_BESIDE,
    Beside,
    Drifted,
    changes_nothing,
    drift,
    other_wordings,
    words_of,
)
from doppio.core.ranking import Ids, Scores
from doppio.core.recipe.recipe import Recipe
from doppio.core.text.units import folded_words
from doppio.core.timed import timed
from doppio.core.trace import AskedTrace, WordingTrace

ENCODE, CONDITIONS, REWORD = "encode question", "conditions", "reword"
Vectors = dict[str, NDArray[np.float32]]
Masks = dict[tuple[str, str], NDArray[np.bool_]]
MASKS_KEPT = 32


@dataclass(frozen=True)
class Searched:
    """What the branches found for one question, in the recipe's order, and the seconds of each step before that.

    took : seconds of each branch
    asked : what happened before the search; None where nothing did
    absent : what of the index did not answer, in words
    share : what a picture counts beside the question's words, 0 to 1; None where there is no picture
    """

    rankings: list[Ranking]
    took: list[float]
    seconds: dict[str, float] = field(default_factory=dict)
    asked: AskedTrace | None = None
    absent: tuple[str, ...] = ()
    share: float | None = None


@dataclass(frozen=True)
class Searching:
    """The branches of a recipe, opened.

    fuse : makes one ranking of those of the branches, which feedback begins with
    writers : what rewords elsewhere, by the names that the recipe has for them
    allowed : by conditions and what was known of documents, the chunks that may be found; what is lacking is added
    """

    recipe: Recipe
    chunks: ChunkTable
    texts: ChunkTexts
    branches: Mapping[str, Branch]
    fuse: Callable[[Sequence[Ranking]], Ranking]
    writers: Mapping[str, Writer] = field(default_factory=dict)
    allowed: Masks = field(default_factory=dict)

    def encoded(self, questions: Sequence[str]) -> Vectors:
        """Vectors of the questions by branch; branches with the same encoder share them."""
        by_encoder: Vectors = {}
        found = {}
        for identity, branch in self.branches.items():
            encoder = branch.encoder
            if encoder is None:
                continue
            if encoder.digest not in by_encoder:
                by_encoder[encoder.digest] = check_finite(encoder.questions(questions), encoder, questions)
            found[identity] = by_encoder[encoder.digest]
        return found

    def plain(self, questions: Sequence[str], own: Settings, vectors: Vectors) -> list[Ranking]:
        """What one branch finds for questions as they stand."""
        identity = own["id"]
        return self.branches[identity].search_many(questions, vectors.get(identity), own["depth"])

    def searched(self, questions: Sequence[str], beside: Beside = NOTHING_BESIDE) -> list[Searched]:
        """What the branches find for each question; seconds are shared out over the questions."""
        with left_out() as absent:
            found = self._searched(questions, beside)
        return [replace(one, absent=tuple(sorted(absent))) for one in found] if absent else found

    def _searched(self, questions: Sequence[str], beside: Beside) -> list[Searched]:
        each = len(questions)
        settings = self.recipe.question
        vectors, encoding = timed(lambda: self.encoded(questions))
        seconds = {ENCODE: encoding / each} if vectors else {}
        if changes_nothing(settings) and beside == NOTHING_BESIDE:
            ranked = [timed(partial(self.plain, questions, own, vectors)) for own in self.recipe.branches]
            took = [spent / each for _, spent in ranked]
            return [Searched([found[row] for found, _ in ranked], took, dict(seconds)) for row in range(each)]
        (allowed, conditions), spent = timed(lambda: self._allowed(settings, beside))
        if conditions:
            seconds[CONDITIONS] = spent / each
        corpora = [
            _Asked(self, settings, {identity: own[row] for identity, own in vectors.items()}) for row in range(each)
        ]
        queries = [
            Query(
                question, words_of(question, corpus, settings, beside), beside.without, beside.picture, beside.share
            )
            for question, corpus in zip(questions, corpora, strict=True)
        ]
        ranked = [timed(partial(self._found, own, queries, vectors, allowed)) for own in self.recipe.branches]
        took = [spent / each for _, spent in ranked]
        rankings = [[found[row] for found, _ in ranked] for row in range(each)]
        rewords = bool(settings["wordings"] or beside.wordings)
        for corpus, found in zip(corpora, rankings, strict=True):
            corpus.rankings = found
        worded: list[tuple[list[Ranking], list[WordingTrace]]] = [(found, []) for found in rankings]
        if rewords:
            worded, spent = timed(lambda: self._reworded(questions, corpora, vectors, beside, allowed))
            seconds[REWORD] = spent / each
        count = None if allowed is None else int(allowed.sum())
        result = []
        for row, (joined, others) in enumerate(worded):
            hits = self._counts(rankings[row])
            words = queries[row].words
            own = WordingTrace(
                questions[row], "", None if words is None else dict(words), 1.0 if vectors else None, found=hits
            )
            asked = AskedTrace((own, *others), conditions, count)
            result.append(Searched(joined, took, dict(seconds), asked, share=beside.turn(questions[row])))
        return result

    def _found(
        self, own: Settings, queries: Sequence[Query], vectors: Vectors, allowed: NDArray[np.bool_] | None
    ) -> list[Ranking]:
        identity = own["id"]
        return search(self.branches[identity], queries, vectors.get(identity), own["depth"], allowed)

    def _allowed(self, settings: Settings, beside: Beside) -> tuple[NDArray[np.bool_] | None, str]:
        """Which chunks may be found, None where all may, and the conditions as they were written."""
        written = together(settings["conditions"], beside.conditions)
        conditions = read_conditions(written)
        if not conditions:
            return None, written
        key = written, self.texts.told_stamp()
        make = partial(allowed_chunks, conditions, self.chunks, self.texts)
        return kept(self.allowed, key, make, MASKS_KEPT), written

    def _counts(self, rankings: Sequence[Ranking]) -> dict[str, int]:
        pairs = zip(self.recipe.branches, rankings, strict=True)
        return {branch["id"]: len(chunks) for branch, (chunks, _) in pairs}

    def _reworded(
        self,
        questions: Sequence[str],
        corpora: Sequence["_Asked"],
        vectors: Vectors,
        beside: Beside,
        allowed: NDArray[np.bool_] | None,
    ) -> list[tuple[list[Ranking], list[WordingTrace]]]:
        """For each question its rankings over all wordings, and what came of each of them.

        Wordings of all questions are encoded and searched by together.
        """
        settings, branches = self.recipe.question, self.recipe.branches
        others = [
            other_wordings(question, corpus, settings, beside)
            for question, corpus in zip(questions, corpora, strict=True)
        ]
        flat = [(row, wording) for row, found in enumerate(others) for wording in found]
        if not flat:
            return [(corpus.rankings, []) for corpus in corpora]
        moved = self._encoded(flat, vectors)
        first = next(iter(moved), None)
        drifted = [
            drift(
                corpora[row].terms(questions[row]),
                corpora[row].terms(wording.text),
                None if first is None else moved[first][at],
                None if first is None else vectors[first][row],
                settings,
            )
            for at, (row, wording) in enumerate(flat)
        ]
        near = [at for at, one in enumerate(drifted) if not one.dropped]
        queries = [Query(flat[at][1].text, flat[at][1].words, beside.without) for at in near]
        some = {identity: found[near] for identity, found in moved.items()}
        ranked = [self._found(own, queries, some, allowed) if near else [] for own in branches]
        place = {at: number for number, at in enumerate(near)}
        lists = [[[ranking] for ranking in corpus.rankings] for corpus in corpora]
        traces: list[list[WordingTrace]] = [[] for _ in corpora]
        for at, (row, wording) in enumerate(flat):
            new = [found[place[at]] for found in ranked] if at in place else []
            traces[row].append(self._trace(wording, drifted[at], lists[row], new))
            for before, own in zip(lists[row], new, strict=False):
                before.append(own)
        join, told = JOINS.get(settings["join"]["kind"]), settings["join"]
        joined = [
            [
                _first(join.joined(found, told), branch["depth"]) if len(found) > 1 else found[0]
                for found, branch in zip(each, branches, strict=True)
            ]
            for each in lists
        ]
        return list(zip(joined, traces, strict=True))

    def _trace(
        self, wording: Wording, drifted: Drifted, lists: Sequence[Sequence[Ranking]], own: Sequence[Ranking]
    ) -> WordingTrace:
        """What came of a wording; `own` is nothing where it was not searched by."""
        found: dict[str, int] = {}
        new: dict[str, int] = {}
        for branch, before, ranking in zip(self.recipe.branches, lists, own, strict=False):
            known = np.concatenate([chunks for chunks, _ in before])
            found[branch["id"]] = len(ranking[0])
            new[branch["id"]] = int((~np.isin(ranking[0], known)).sum())
        words = None if wording.words is None else dict(wording.words)
        return WordingTrace(
            wording.text, wording.source, words, drifted.cosine, drifted.kept, drifted.dropped, found, new
        )

    def _encoded(self, flat: Sequence[tuple[int, Wording]], questions: Vectors) -> Vectors:
        """Vectors of wordings by branch; those with feedback are the question's, moved."""
        others = [at for at, (_, wording) in enumerate(flat) if not wording.near]
        texts = [flat[at][1].text for at in others]
        encoded = self.encoded(texts) if texts else {}
        found = {}
        for identity, asked in questions.items():
            own = asked[[row for row, _ in flat]].copy()
            if others:
                own[others] = encoded[identity]
            vectors_of = getattr(self.branches[identity], "vectors_of", None)
            for at, (row, wording) in enumerate(flat):
                if vectors_of is not None and wording.near and wording.pull:
                    own[at] = wording.moved(asked[row], vectors_of(list(wording.near)))
            found[identity] = own
        return found


class _Asked:
    """What a step before the search may ask of the corpus; see `question.kind.Corpus`.

    rankings : what the branches found for the question as it was asked
    """

    def __init__(self, searching: Searching, settings: Settings, vectors: Mapping[str, NDArray[np.float32]]) -> None:
        self._searching = searching
        self._vectors = vectors
        self.hint = str(settings["hint"])
        self.rankings: list[Ranking] = []

    def rarity(self, words: Sequence[str]) -> list[float]:
        branch = self._branch("rarity")
        return [1.0] * len(words) if branch is None else list(branch.rarity(words))

    def first_hits(self) -> tuple[Ids, Scores]:
        return self._searching.fuse(self.rankings)

    def texts(self, chunks: Sequence[int]) -> list[str]:
        return self._searching.texts.indexed(chunks)

    def near_words(self, question: str, count: int) -> list[str]:
        for identity, branch in self._searching.branches.items():
            if hasattr(branch, "near_words"):
                return list(branch.near_words(question, self._vectors[identity], count))
        return []

    def write(self, writer: str, question: str, count: int) -> list[str]:
        return self._searching.writers[writer].write(question, self.hint, self.language, count)

    def terms(self, text: str) -> list[str]:
        """The terms of a text as the first branch of terms sees them; its words where there is none."""
        branch = self._branch("terms")
        return folded_words(text) if branch is None else list(branch.terms(text))

    @property
    def language(self) -> str:
        branch = self._branch("language")
        return "any" if branch is None else str(branch.language)

    def _branch(self, name: str) -> Any:
        return next((branch for branch in self._searching.branches.values() if hasattr(branch, name)), None)


def _first(ranking: Ranking, depth: int) -> Ranking:
    return ranking[0][:depth], ranking[1][:depth]
