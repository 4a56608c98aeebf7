"""Asking what is published: which version answers whom, with what settings, and what is told of the answer."""

import logging
import secrets
import threading
import time
from collections.abc import Iterator, Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field, replace
from typing import Any

from django.db import connection

from doppio.core.cores import cores
from doppio.core.errors import DocumentError, DoppioError, RecipeError
from doppio.core.measure.overlap import overlap, rank_biased_overlap
from doppio.core.pipeline import ANSWER, Pipeline
from doppio.core.question.conditions import ConditionError
from doppio.core.question.reading import Beside
from doppio.core.recipe.check import check
from doppio.core.select.answer.kind import NONE as NO_ANSWERER
from doppio.core.select.answer.pieces import pieces_of
from doppio.core.trace import CONTEXT, AnswerTrace, Trace
from doppio.jobs.patience import LONGEST_WAIT
from doppio.jobs.turns import Busy, Turns
from doppio.recipes.models import RecipeVersion
from doppio.recipes.opened import TRIES, asked_by
from doppio.recipes.services import core_recipe
from doppio.serving.models import Key, Published
from doppio.serving.recording import recorder
from doppio.serving.services import told
from doppio.serving.tracing import WHOLE, tracing
from doppio.serving.versions import versions
from doppio.serving.watching import watched
from doppio.stages.asked.handed import handed_body

log = logging.getLogger(__name__)
# A question uses a core; who waits holds a thread of the server, so not all of them may.
SEARCHES = Turns(cores(), 24)
# What is answered elsewhere takes no core but takes its time.
ANSWERS = Turns(6, 2, here=False)
# First passages that two versions are compared by.
COMPARED = 10


@dataclass(frozen=True)
class Wanted:
    """What is asked.

    k, budget : instead of the recipe's own; None where they are these
    within : seconds that the question may wait for its turn; None where it may wait as long as others
    waited : seconds that it has waited already
    sent : headers of the request, which may name a trace that it belongs to
    """

    question: str
    beside: Beside
    k: int | None = None
    budget: int | None = None
    within: float | None = None
    waited: float = 0.0
    sent: Mapping[str, str] = field(default_factory=dict, repr=False)


@dataclass(frozen=True)
class Found:
    """What came of a question, before anything is answered.

    begun, searched : when it was asked and when its passages were found, by a clock that never runs backwards
    """

    request: str
    recipe: RecipeVersion
    pipeline: Pipeline
    trace: Trace
    handed: dict[str, Any]
    begun: float
    searched: float

    @property
    def body(self) -> dict[str, Any]:
        """As the API tells it."""
        stage = self.trace.stage(CONTEXT)
        pieces = pieces_of(stage, self.pipeline.chunks)
        passages = []
        for piece, one in zip(pieces, self.handed["pieces"], strict=True):
            best = int(piece.rows[0])
            likely = None if stage.probability is None else round(float(stage.probability[best]), 6)
            passages.append(
                {
                    **{name: one[name] for name in PASSAGE},
                    "score": round(float(stage.scores[best]), 6),
                    "likely": likely,
                }
            )
        return {
            "request": self.request,
            "recipe": {"name": self.recipe.name, "version": self.recipe.version},
            "passages": passages,
            "written": self.handed["written"],
            "tokens": self.handed["tokens"],
            "answered": self.trace.answered,
            "absent": list(self.trace.absent),
            "measure": stage.measure,
            "seconds": self.took(),
        }

    def took(self, *, answering: bool = False) -> dict[str, float]:
        """Seconds by stage, and of all until now; where something is answered, since the passages were found."""
        now = time.perf_counter()
        found = dict(self.trace.seconds) | ({ANSWER: now - self.searched} if answering else {})
        return {name: round(value, 4) for name, value in (found | {WHOLE: now - self.begun}).items()}

    @property
    def best(self) -> float | None:
        stage = self.trace.stage(CONTEXT)
        return float(stage.scores[stage.kept].max()) if stage.kept.any() else None


PASSAGE = (
    "number",
    "document",
    "title",
    "section",
    "page",
    "lines",
    "link",
    "start",
    "end",
    "text",
    "carried",
    "figures",
)


def version_for(published: Published, key: Key | None) -> RecipeVersion:
    """The version that answers a key: the second one where the key is of its share, or else what answers here now."""
    if published.use == Published.SPLIT and published.second is not None and key and key.draw < published.share:
        return published.second
    return versions.of(published)


def search(
    published: Published,
    key: Key | None,
    wanted: Wanted,
    *,
    kind: str = Key.SEARCH,
    recipe: RecipeVersion | None = None,
) -> Found:
    """Find passages for a question, and write down that it was asked.

    Parameters
    ----------
    recipe : RecipeVersion or None
        The version that was looked at for this question; None where that is still to be found out.

    Raises
    ------
    Busy
        If too many ask at once.
    DoppioError
        If it cannot be asked so.
    """
    request, begun = secrets.token_hex(8), time.perf_counter() - wanted.waited
    recipe = recipe or version_for(published, key)
    try:
        with SEARCHES.turn(LONGEST_WAIT if wanted.within is None else wanted.within):
            pipeline, trace, handed = _asked(recipe, wanted)
    except (Busy, ConditionError, RecipeError):
        # Too many, or what was asked cannot be read: nothing of ours failed.
        watched.refused(published.name)
        raise
    except Exception as error:
        recorder.note(
            published, key, request=request, recipe=recipe.pk, kind=kind, question=wanted.question,
            failed=f"{type(error).__name__}: {error}"[:300], seconds={WHOLE: round(time.perf_counter() - begun, 4)},
        )  # fmt: skip
        watched.failed(published.name)
        raise
    found = Found(request, recipe, pipeline, trace, handed, begun, time.perf_counter())
    if kind == Key.SEARCH:
        finish(published, key, wanted, found, kind)
    return found


def finish(
    published: Published,
    key: Key | None,
    wanted: Wanted,
    found: Found,
    kind: str,
    answer: AnswerTrace | None = None,
    problem: str = "",
) -> None:
    """Write down what came of a question, and have the second version asked where it shall be.

    `problem` is why its answer broke off; empty where it did not.
    """
    silent = f"silent: {answer.silent}" if answer is not None and not answer.sentences else ""
    seconds = found.took(answering=answer is not None)
    recorder.note(
        published, key, request=found.request, recipe=found.recipe.pk, kind=kind, question=wanted.question,
        seconds=seconds, pieces=len(found.handed["pieces"]), best=found.best, answered=found.trace.answered,
        failed=(problem or silent)[:300],
    )  # fmt: skip
    pieces = len(found.handed["pieces"])
    watched.served(published.name, kind, seconds, pieces > 0)
    tracing.question(published.name, kind, found.request, told(found.recipe), seconds, pieces, wanted.sent)
    log.info(
        "%s v%s answered %s", found.recipe.name, found.recipe.version, found.request,
        extra={"about": {"id": found.request, "name": published.name, "key": key and key.pk, "pieces": pieces,
                         "seconds": seconds[WHOLE]}},
    )  # fmt: skip
    # Drawn by the request, so that whoever looks it up knows whether it was.
    drawn = int(found.request[:8], 16) / 2**32 < published.share
    if drawn and published.use == Published.SHADOW and published.second is not None:
        shadows.ask(published.second, wanted, found)


def sentences(found: Found, question: str) -> Iterator[AnswerTrace]:
    """The answer as it grows.

    Raises
    ------
    DoppioError
        If the recipe answers nothing.
    """
    answerer = found.pipeline.answerer
    if answerer is None:
        raise DoppioError(f"{told(found.recipe)} hands passages on and does not answer; publish one that does")
    with ANSWERS.turn():
        yield from answerer.stream(question, found.pipeline.handed_on(found.trace.stage(CONTEXT)))


def answers(recipe: RecipeVersion) -> bool:
    """Whether a recipe answers, and does not only hand passages on."""
    return bool(core_recipe(recipe).select["answer"]["kind"] != NO_ANSWERER)


def _asked(recipe: RecipeVersion, wanted: Wanted) -> tuple[Pipeline, Trace, dict[str, Any]]:
    """Ask; where a document changed between opening the index and reading from it, ask again."""
    core = core_recipe(recipe)

    def ask(pipeline: Pipeline) -> tuple[Pipeline, Trace, dict[str, Any]]:
        pipeline = _with(pipeline, wanted)
        trace = pipeline.found(wanted.question, wanted.beside)
        return pipeline, trace, handed_body(pipeline, trace, None)

    for last in [False] * (TRIES - 1) + [True]:
        try:
            return asked_by(recipe.workspace, core, ask)
        except DocumentError:
            if last:
                raise
    raise AssertionError


def _with(pipeline: Pipeline, wanted: Wanted) -> Pipeline:
    """The same with other settings of what is handed on; whatever is opened is shared."""
    if wanted.k is None and wanted.budget is None:
        return pipeline
    body = pipeline.recipe.body
    select = dict(body["select"])
    if wanted.k is not None:
        select["k"] = wanted.k
    if wanted.budget is not None:
        select["budget_tokens"] = wanted.budget
    return replace(pipeline, recipe=check({**body, "select": select}))


class Shadows:
    """Second versions, asked one question at a time behind those who wait for an answer; what is too much is left."""

    MOST_WAITING = 32

    def __init__(self) -> None:
        self._pool: ThreadPoolExecutor | None = None
        self._waiting = threading.Semaphore(self.MOST_WAITING)

    def ask(self, recipe: RecipeVersion, wanted: Wanted, found: Found) -> None:
        """Ask a second version the same, and write the difference down; at once where nobody looks after it."""
        if not versions.looked_after:
            self._ask(recipe, wanted, found)
            return
        if not self._waiting.acquire(blocking=False):
            return
        self._pool = self._pool or ThreadPoolExecutor(1)
        self._pool.submit(self._ask_then_free, recipe, wanted, found)

    def _ask_then_free(self, recipe: RecipeVersion, wanted: Wanted, found: Found) -> None:
        try:
            self._ask(recipe, wanted, found)
        except Exception as error:
            log.warning("%s could not be asked beside: %s", told(recipe), error)
        finally:
            self._waiting.release()
            connection.close()

    def _ask(self, recipe: RecipeVersion, wanted: Wanted, found: Found) -> None:
        begun = time.perf_counter()
        _, _, handed = _asked(recipe, wanted)
        took = time.perf_counter() - begun
        # Chunks of two recipes have numbers of their own: places in the documents can be compared.
        first, second = (_places(body) for body in (found.handed, handed))
        recorder.beside(
            found.request,
            {
                "recipe": recipe.pk,
                "overlap": round(overlap(first, second), 4),
                "rbo": round(rank_biased_overlap(first, second), 4),
                "seconds": round(took, 4),
                "pieces": len(handed["pieces"]),
            },
        )


shadows = Shadows()


def _places(handed: dict[str, Any]) -> list[tuple[int, int, int]]:
    ranked = sorted(handed["pieces"], key=lambda one: one["number"])[:COMPARED]
    return [(one["document"], one["start"], one["end"]) for one in ranked]
