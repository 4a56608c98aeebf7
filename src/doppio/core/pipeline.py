"""A recipe at work: a question goes in, a trace comes out."""

import time
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import partial

import numpy as np
from numpy.typing import NDArray

from doppio.core.branches.kind import Branch, kind_of
from doppio.core.branches.sparse.making import read_on
from doppio.core.chunking.context import titled_path, with_context
from doppio.core.chunking.table import ChunkTable, ChunkTexts
from doppio.core.fingerprint import fingerprint
from doppio.core.floors import FLOORS, above
from doppio.core.fusion.kind import METHODS, fused_by
from doppio.core.fusion.pouring import Fused, Ranking
from doppio.core.kinds import Settings
from doppio.core.models.joint import Window
from doppio.core.models.remote_text import Writer
from doppio.core.question.reading import NOTHING_BESIDE, Beside, changes_nothing
from doppio.core.ranking import Ids
from doppio.core.recipe.recipe import Recipe
from doppio.core.reranking.step import FirstStage, Reranker
from doppio.core.reranking.windowed import Candidate
from doppio.core.searching import Masks, Searched, Searching
from doppio.core.select.answer.kind import Answerer, HandedOn
from doppio.core.select.answer.pieces import pieces_of
from doppio.core.select.context import packed
from doppio.core.select.packing import first_groups
from doppio.core.select.pool import Pool, VectorsOf
from doppio.core.text.units import TokenOffsets
from doppio.core.timed import timed
from doppio.core.trace import (
    BEYOND,
    BRANCH,
    CONTEXT,
    FUSED,
    NO_ANSWER,
    RERANKED,
    UNDER_FLOOR,
    UNDER_FLOOR_AND_BEYOND,
    PartTrace,
    StageTrace,
    Trace,
)

QUESTIONS_A_BATCH = 256
HOST_ROOM = 1 << 40
ANSWER = "answer"
FLOOR_NAMES = {setting.name for setting in FLOORS}
# Why a hit does not go on, by whether it is above the floor and whether it is near enough to the top.
WHY = {
    (True, True): "",
    (True, False): BEYOND,
    (False, True): UNDER_FLOOR,
    (False, False): UNDER_FLOOR_AND_BEYOND,
}


@dataclass(frozen=True)
class Pipeline:
    """All that a recipe needs, opened.

    branches : the opened branches by their ids
    reranker : where the recipe reranks
    tokens : counts the encoder's tokens of texts, which a recipe that widens needs
    budget : counts the tokens of the budget; None where these are the encoder's
    answerer : answers from what is handed on, where the recipe wants that
    writers : what rewords elsewhere, by the names that the recipe has for them
    allowed : what conditions let be found; see `Searching`
    """

    recipe: Recipe
    chunks: ChunkTable
    texts: ChunkTexts
    branches: Mapping[str, Branch]
    reranker: Reranker | None
    tokens: TokenOffsets | None = None
    answerer: Answerer | None = None
    writers: Mapping[str, Writer] = field(default_factory=dict)
    budget: TokenOffsets | None = None
    allowed: Masks = field(default_factory=dict, repr=False, compare=False)

    def ask(self, question: str, beside: Beside = NOTHING_BESIDE) -> Trace:
        """Take one question through all stages; `beside` is what a person says with it for this once.

        Raises
        ------
        ConditionError
            If what is said beside it has a condition that cannot be read.
        """
        [found] = self._searching.searched([question], beside)
        return self._one(question, found)

    def found(self, question: str, beside: Beside = NOTHING_BESIDE) -> Trace:
        """The same as far as the context; nothing is answered, so that an answer can be told as it grows."""
        [found] = self._searching.searched([question], beside)
        return self._one(question, found, answering=False)

    def ask_many(self, questions: Sequence[str], besides: Sequence[Beside] = ()) -> Iterator[Trace]:
        """Take questions through all stages; branches are asked for many questions at once.

        Parameters
        ----------
        besides : sequence of Beside
            What belongs to each question: its conditions, its picture; nothing where it is empty.
        """
        for batch, own in _batches(questions, besides):
            for question, found in zip(batch, self._searched(batch, own), strict=True):
                yield self._one(question, found)

    def _searched(self, questions: Sequence[str], besides: Sequence[Beside]) -> list[Searched]:
        """What the branches find for questions; those with the same beside them are searched for together."""
        found: dict[int, Searched] = {}
        for beside in dict.fromkeys(besides):
            rows = [row for row, own in enumerate(besides) if own == beside]
            found |= zip(rows, self._searching.searched([questions[row] for row in rows], beside), strict=True)
        return [found[row] for row in range(len(questions))]

    @property
    def _searching(self) -> Searching:
        return Searching(
            self.recipe, self.chunks, self.texts, self.branches, self._first_hits, self.writers, self.allowed
        )

    def _first_hits(self, rankings: Sequence[Ranking]) -> Ranking:
        fused = self._high(self.fuse(rankings))
        return fused.chunks, fused.scores

    def rankings(
        self, questions: Sequence[str], held: dict[str, list[Ranking]], besides: Sequence[Beside] = ()
    ) -> list[list[Ranking]]:
        """What each branch finds for questions, in the recipe's order.

        Parameters
        ----------
        questions : sequence of str
        held : by what a branch is asked with, what it found; what is lacking is added. Another pipeline over the same
            indexes can take it from there, as long as it is asked the same questions. Hits under a branch's floor are
            among them; `above_floors` leaves them out.
        besides : as in `ask_many`
        """
        searching, before = self._searching, self.recipe.question
        keys = [self._key(branch) for branch in self.recipe.branches]
        if not changes_nothing(before) or any(beside != NOTHING_BESIDE for beside in besides):
            # What is asked hangs on what all branches and the fusion made of the question as it stood.
            keys = [fingerprint(before, self.recipe.fusion, keys, key) for key in keys]
            if any(key not in held for key in keys):
                found = self._searched(questions, besides or [NOTHING_BESIDE] * len(questions))
                held |= {key: [one.rankings[at] for one in found] for at, key in enumerate(keys)}
            return [held[key] for key in keys]
        vectors: dict[str, NDArray[np.float32]] | None = None
        for branch, key in zip(self.recipe.branches, keys, strict=True):
            if key not in held:
                vectors = searching.encoded(questions) if vectors is None else vectors
                held[key] = searching.plain(questions, branch, vectors)
        return [held[key] for key in keys]

    def _key(self, branch: Settings) -> str:
        """What a branch is asked with; a floor comes after that."""
        return fingerprint({name: value for name, value in branch.items() if name not in FLOOR_NAMES})

    def ask_ranked(self, question: str, rankings: Sequence[Ranking], beside: Beside = NOTHING_BESIDE) -> Trace:
        """Take a question on from what the branches found for it, as far as the context; nothing is answered."""
        share = beside.turn(question)
        return self._one(question, Searched(list(rankings), [0.0] * len(rankings), share=share), answering=False)

    def fused_many(
        self, questions: Sequence[str], besides: Sequence[Beside] = ()
    ) -> Iterator[tuple[Fused, FirstStage]]:
        """What fusion makes of questions, to the recipe's depth, and what it came from; nothing is reranked."""
        families = [kind_of(branch).family for branch in self.recipe.branches]
        for batch, own in _batches(questions, besides):
            for found in self._searched(batch, own):
                fused = self._high(self.fuse(found.rankings, found.share))
                yield fused, FirstStage(fused.scores, _of_families(families, found.rankings, fused.chunks))

    @property
    def least(self) -> list[float | None]:
        """The least score that each branch can give, in the recipe's order; None where there is none."""
        return [getattr(self.branches[branch["id"]], "least", None) for branch in self.recipe.branches]

    def above_floors(self, branches: Sequence[Ranking]) -> list[Ranking]:
        """Rankings of the branches, in the recipe's order, without what lies under each one's floor."""
        found = []
        for branch, (chunks, scores) in zip(self.recipe.branches, branches, strict=True):
            kept = above(scores, branch)
            found.append((chunks[kept], scores[kept]))
        return found

    def fuse(self, branches: Sequence[Ranking], share: float | None = None) -> Fused:
        """Fuse rankings of the branches, in the recipe's order, to the recipe's depth; what is under a branch's floor
        has no part in it.

        Parameters
        ----------
        share : float or None
            What a picture counts beside the words of the question: branches that see it weigh twice that much, the
            others twice the rest. None where the question has no picture.
        """
        settings = self.recipe.fusion
        branches = self.above_floors(branches)
        own = [settings["weights"][branch["id"]] for branch in self.recipe.branches]
        turned = [self._turned(self.branches[branch["id"]], share) for branch in self.recipe.branches]
        weights = [weight * turn for weight, turn in zip(own, turned, strict=True)]
        # Where nothing of the recipe is asked, such as by a picture that no branch sees, nothing was found either.
        weights = weights if any(weights) else own
        fused = fused_by(METHODS.get(settings["method"]), branches, weights, settings, self.least)
        depth = settings["depth"]
        return Fused(fused.chunks[:depth], fused.scores[:depth], fused.ranks[:depth], fused.shares[:depth])

    @staticmethod
    def _turned(branch: Branch, share: float | None) -> float:
        if share is None:
            return 1.0
        return 2 * share if getattr(branch, "sees", False) else 2 * (1 - share)

    def _high(self, fused: Fused) -> Fused:
        """A fused list without what lies under its floor."""
        kept = above(fused.scores, self.recipe.fusion)
        return Fused(fused.chunks[kept], fused.scores[kept], fused.ranks[kept], fused.shares[kept])

    def _one(self, question: str, searched: Searched, *, answering: bool = True) -> Trace:
        seconds = dict(searched.seconds)
        stages: list[StageTrace] = []
        rankings = zip(self.recipe.branches, searched.rankings, searched.took, strict=True)
        for branch, (chunks, scores), took in rankings:
            kept = above(scores, branch)
            reasons = _reasons(kept, UNDER_FLOOR)
            measure, family = self.branches[branch["id"]].measure, kind_of(branch).family
            stages.append(
                StageTrace(branch["id"], BRANCH, measure, chunks, scores, kept, reasons, took, family=family)
            )
        found = [(stage.chunks, stage.scores) for stage in stages]
        fused, took = timed(lambda: self.fuse(found, searched.share))
        stages.append(self._fused_stage(fused, took))
        answered = None
        if self.reranker is not None and self.recipe.rerank is not None:
            if question.strip():
                reranked, answered = self._rerank_stage(question, stages, self.reranker, self.recipe.rerank)
            else:
                reranked = self._left_as_it_is(stages[-1])
            stages.append(reranked)
        context, tokens = self._context_stage(question, stages[-1], answered)
        stages.append(context)
        seconds |= {stage.stage: stage.seconds for stage in stages}
        answer = None
        if self.answerer is not None and answering:
            answer, seconds[ANSWER] = timed(partial(self.answerer.answer, question, self.handed_on(context)))
        return Trace(
            question,
            self.recipe.fingerprint,
            tuple(stages),
            tokens,
            seconds,
            answered,
            searched.asked,
            answer,
            searched.absent,
        )

    def handed_on(self, context: StageTrace) -> list[HandedOn]:
        """The pieces of a context with their texts, in the order in which they are written."""
        pieces = pieces_of(context, self.chunks)
        chunks = [int(context.chunks[piece.rows[0]]) for piece in pieces]
        titles, headings = self.texts.titles(chunks), self.texts.headings(chunks)
        texts = self.texts.between(chunks, [piece.range[1] for piece in pieces], [piece.range[2] for piece in pieces])
        ranked = sorted(range(len(pieces)), key=lambda place: pieces[place].rows[0])
        found = []
        for place, (piece, text, title, own) in enumerate(zip(pieces, texts, titles, headings, strict=True)):
            path = titled_path(title, own.split("\n") if own else [])
            found.append(HandedOn(place + 1, piece.range[0], piece.range[1], text, path, ranked.index(place)))
        return found

    def _fused_stage(self, fused: Fused, seconds: float) -> StageTrace:
        if self.recipe.rerank:
            kept = np.arange(len(fused.chunks)) < self.recipe.passed_by_fusion
        else:
            kept = first_groups(self._hosts(fused.chunks), self.recipe.passed_by_fusion)
        high = above(fused.scores, self.recipe.fusion)
        return StageTrace(
            FUSED,
            FUSED,
            METHODS.get(self.recipe.fusion["method"]).measure,
            fused.chunks,
            fused.scores,
            kept & high,
            tuple(WHY[bool(good), bool(near)] for good, near in zip(high, kept, strict=True)),
            seconds,
            branch_ranks=fused.ranks,
            shares=fused.shares,
        )

    def candidates(self, chunks: Sequence[int], *, headed: bool = False) -> list[Candidate]:
        """Chunks as scorers read them; with titles and headings where the recipe's own need them, or all shall."""
        titles, headings = [""] * len(chunks), [""] * len(chunks)
        if headed or (self.reranker is not None and self.reranker.headed):
            titles, headings = self.texts.titles(chunks), self.texts.headings(chunks)
        # The texts come last: where they come from a database, they hold for what was read before.
        lines, texts = self.texts.lines(chunks), self.texts.texts(chunks)
        rows = zip(chunks, lines, texts, titles, headings, self._words_of_pictures(chunks), strict=True)
        found = []
        for chunk, line, text, title, around, words in rows:
            indexed = with_context(line, text)
            tokens = int(self.chunks.context[chunk])
            read = f"{indexed}\n\n{words}" if words else indexed
            found.append(Candidate(chunk, read, len(indexed) - len(text), tokens, title, tuple(around.split("\n"))))
        return found

    def _words_of_pictures(self, chunks: Sequence[int]) -> list[str]:
        """What can be read on the pictures of chunks, where a branch looks at these: what they are found by has to be
        there for scorers as well. The words of a page that was read are in the chunks already."""
        if not any(getattr(branch, "sees", False) for branch in self.branches.values()):
            return [""] * len(chunks)
        return [
            "\n".join(filter(None, (read_on(one) for one in own if not one.is_page)))
            for own in self.texts.pictures(chunks)
        ]

    def _rerank_stage(
        self, question: str, before: Sequence[StageTrace], reranker: Reranker, settings: Settings
    ) -> tuple[StageTrace, float | None]:
        """The stage, and how likely the question is answered at all."""
        begun = time.perf_counter()
        fused = before[-1]
        result = reranker.rerank(
            question,
            self.candidates(fused.passed.tolist()),
            FirstStage(
                fused.scores[fused.kept],
                _of_families(
                    [stage.family for stage in before[:-1]],
                    [(stage.chunks, stage.scores) for stage in before[:-1]],
                    fused.passed,
                ),
            ),
            floor=settings["floor"],
            floor_share=settings["floor_share"],
            blend=settings["blend"],
            unfound=self._unfound(question) if reranker.answerable else 0.0,
        )
        within = first_groups(self._hosts(result.chunks), self.recipe.looked_at)
        reasons = tuple(WHY[bool(good), bool(near)] for good, near in zip(result.above_floor, within, strict=True))
        stage = StageTrace(
            RERANKED,
            RERANKED,
            reranker.measure,
            result.chunks,
            result.scores,
            result.above_floor & within,
            reasons,
            time.perf_counter() - begun,
            before=result.before,
            raw=result.raw[0],
            raw_measure=reranker.parts[0].scorer.measure,
            windows=_windows(result.windows),
            probability=result.probability,
            parts=tuple(
                PartTrace(part.scorer.name, part.scorer.measure, part.weight, raw)
                for part, raw in zip(reranker.parts, result.raw, strict=True)
                if len(reranker.parts) > 1
            )
            + tuple(PartTrace(share.name, share.title, share.weight, raw) for share, raw in result.shares),
        )
        return stage, result.answered

    def _left_as_it_is(self, fused: StageTrace) -> StageTrace:
        """The stage of a question without words: there is nothing that passages could be read beside."""
        chunks, scores = fused.passed, fused.scores[fused.kept]
        within = first_groups(self._hosts(chunks), self.recipe.looked_at)
        reasons = tuple(WHY[True, bool(near)] for near in within)
        before = np.flatnonzero(fused.kept) + 1
        return StageTrace(RERANKED, RERANKED, fused.measure, chunks, scores, within, reasons, 0.0, before=before)

    def _unfound(self, question: str) -> float:
        """The share of the question's terms that nothing holds, by the first branch that reads terms."""
        for branch in self.branches.values():
            tells = getattr(branch, "unfound", None)
            if tells is not None:
                return float(tells(question))
        return 0.0

    def _context_stage(self, question: str, before: StageTrace, answered: float | None) -> tuple[StageTrace, int]:
        """The stage, and the tokens of all that is handed on."""
        begun = time.perf_counter()
        select = self.recipe.select
        pool = Pool(question, before.passed, before.scores[before.kept], self.chunks, self.texts, self.vectors_of)
        found = packed(pool, self._hosts(pool.chunks), select, self.tokens, self.budget)
        taken, reasons, tokens, written = found.taken, found.reasons, found.tokens, found.written
        if select["empty_below"] is not None and answered is not None and answered < select["empty_below"]:
            taken, tokens, written = np.zeros(len(taken), bool), 0, np.zeros_like(written)
            reasons = (NO_ANSWER,) * len(taken)
        stage = StageTrace(
            CONTEXT,
            CONTEXT,
            before.measure,
            pool.chunks[found.places],
            pool.scores[found.places],
            taken,
            reasons,
            time.perf_counter() - begun,
            before=(np.flatnonzero(before.kept) + 1)[found.places],
            probability=None if before.probability is None else before.probability[before.kept][found.places],
            ranges=found.ranges,
            widened=found.widened,
            written=written,
            instead=found.instead,
            repeated=found.repeated,
        )
        return stage, tokens

    @property
    def vectors_of(self) -> VectorsOf | None:
        """What gives the vectors of chunks: the first branch that has any."""
        found = (getattr(branch, "vectors_of", None) for branch in self.branches.values())
        return next((one for one in found if one is not None), None)

    def _hosts(self, chunks: Ids) -> NDArray[np.int64]:
        """Number of what each chunk hands on: its host, which neighbours may share."""
        table = self.chunks
        if self.recipe.chunking["host"] is None:
            return np.asarray(chunks, np.int64)
        return table.document[chunks] * HOST_ROOM + table.host_start[chunks]


def _batches(questions: Sequence[str], besides: Sequence[Beside]) -> Iterator[tuple[Sequence[str], Sequence[Beside]]]:
    """Questions with what belongs to them, some at a time."""
    besides = besides or [NOTHING_BESIDE] * len(questions)
    for first in range(0, len(questions), QUESTIONS_A_BATCH):
        yield questions[first : first + QUESTIONS_A_BATCH], besides[first : first + QUESTIONS_A_BATCH]


def _of_families(families: Sequence[str], rankings: Sequence[Ranking], chunks: Ids) -> dict[str, NDArray[np.float64]]:
    """By the family of branches, the best score that one of them gave each chunk; NaN where none found it."""
    found: dict[str, NDArray[np.float64]] = {}
    for family, (ids, scores) in zip(families, rankings, strict=True):
        given = dict(zip(ids.tolist(), scores.tolist(), strict=True))
        own = np.array([given.get(chunk, np.nan) for chunk in chunks.tolist()], np.float64)
        found[family] = np.fmax(found.get(family, own), own)
    return found


def _windows(read: Sequence[Window | None]) -> NDArray[np.int64] | None:
    """Parts that were read, or None where every text was read whole."""
    if not any(read):
        return None
    return np.array([window or (-1, -1) for window in read], np.int64)


def _reasons(kept: NDArray[np.bool_], why: str) -> tuple[str, ...]:
    return tuple("" if on else why for on in kept)
