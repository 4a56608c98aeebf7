"""The reranker as a whole: what falls under a floor, how deep the shortlist should be, and a scorer on its own."""

import math
from collections.abc import Collection, Sequence
from typing import Any

import numpy as np
from django.contrib.auth.models import User

from doppio.core.errors import DoppioError, RecipeError
from doppio.core.fingerprint import fingerprint
from doppio.core.measure.depth import Candidates, depth_curve, depths_within
from doppio.core.measure.ledger import DELIVERED, HELD_EMPTY
from doppio.core.measure.promises import SHARES, promised
from doppio.core.measure.relevance import relevance
from doppio.core.models.joint import Passage
from doppio.core.models.occlusion import sentence_drops
from doppio.core.models.registry import DEFAULT_ENCODER
from doppio.core.pipeline import Pipeline
from doppio.core.progress import Progress
from doppio.core.reranking.kind import kind_of_scorer, offered
from doppio.core.reranking.step import PROBABILITY, Reranker
from doppio.core.text.windows import line_before
from doppio.core.trace import RERANKED, Trace
from doppio.jobs.models import Job
from doppio.library.models import Workspace
from doppio.questions.services import core_question, core_questions, positions
from doppio.recipes.builds import chunking_of, is_built, models, open_pipeline
from doppio.recipes.models import RecipeVersion
from doppio.recipes.opened import NotBuilt, pipelines
from doppio.recipes.queueing import newest_job, queue_job
from doppio.recipes.services import core_recipe
from doppio.trials.models import Survey
from doppio.trials.services import latest_trial

DEPTH = "depth"
DEPTH_QUESTIONS = 100
CUTOFFS = (1, 3, 5)


def floor_stage(recipe: RecipeVersion) -> dict[str, Any]:
    """Scores of every shortlist of the newest trial, and which of them are of relevant chunks."""
    core = core_recipe(recipe)
    trial = latest_trial(recipe)
    settings = core.rerank
    found: dict[str, Any] = {
        "k": core.select["k"], "floor": settings["floor"] if settings else None, "measure": "",
        "calibrated": False, "questions": [], "promises": [],
    }  # fmt: skip
    if trial is None or settings is None:
        return found
    pipeline = pipelines.whole(recipe.workspace, core)
    found["calibrated"] = reranker_of(pipeline).calibrated
    table = pipeline.chunks
    where = positions(pipeline)
    rows = trial.rows.select_related("question").prefetch_related("question__spans__document")
    for row in rows:
        trace = Trace.from_json(row.trace)
        stage = trace.stage(RERANKED)
        question = core_question(row.question)
        relevant = relevance(table, where, question)
        # Traces that are older than probabilities of pairs have theirs among the scores.
        told = stage.scores if stage.probability is None else stage.probability
        found["measure"] = stage.measure if stage.probability is None else PROBABILITY
        found["questions"].append({
            "id": row.question_id,
            "answerable": question.answerable,
            "scores": [round(float(value), 5) for value in told],
            "answered": trace.answered,
            "delivered": row.cause in (DELIVERED, HELD_EMPTY),
            "relevant": relevant.any_of(stage.chunks).tolist() if relevant.chunks else [False] * len(stage.chunks),
        })  # fmt: skip
    found["promises"] = _promises(found["questions"], core.select["k"])
    return found


def _promises(questions: Sequence[dict[str, Any]], k: int) -> list[dict[str, Any]]:
    """Floors that keep a promise, and how many unanswerable questions each leaves empty."""
    best: list[float] = []
    top: list[float] = []
    for one in questions:
        first = list(zip(one["scores"], one["relevant"], strict=True))[:k]
        right = [score for score, answers in first if answers]
        if right:
            best.append(max(right))
        elif not one["answerable"]:
            top.append(max((score for score, _ in first), default=-math.inf))
    made = [promised(best, most) for most in SHARES]
    return [
        {**vars(one), "empty": sum(score < one.floor for score in top) if one.floor is not None else 0}
        for one in made
    ]


def reranker_of(pipeline: Pipeline) -> Reranker:
    """What reranks in a recipe.

    Raises
    ------
    RecipeError
        If it does not rerank.
    """
    if pipeline.reranker is None:
        raise RecipeError("rerank: this recipe does not rerank")
    return pipeline.reranker


def depth_key(workspace: Workspace, pipeline: Pipeline) -> str:
    """What a measurement of depths depends on: chunks, scorer, what comes before it; labels are no part of it."""
    chunking = chunking_of(workspace, pipeline.recipe)
    assert pipeline.recipe.rerank is not None
    parts = (pipeline.recipe.branches, pipeline.recipe.fusion, pipeline.recipe.rerank["blend"])
    return f"depth {fingerprint(chunking.key if chunking else '', reranker_of(pipeline).digest, *parts)}"


def depth_stage(recipe: RecipeVersion) -> dict[str, Any]:
    """The measured depths, if they have been measured."""
    core = core_recipe(recipe)
    job = newest_job(recipe.workspace, DEPTH)
    found = None
    if core.rerank and is_built(recipe.workspace, core):
        key = depth_key(recipe.workspace, pipelines.get(recipe.workspace, core))
        found = Survey.objects.filter(workspace=recipe.workspace, key=key).first()
    return {
        "points": found.points if found else [],
        "questions": found.questions if found else 0,
        "measured_at": found.measured_at if found else None,
        "shortlist": core.rerank["shortlist"] if core.rerank else None,
        "cutoffs": list(CUTOFFS),
        "job": job,
    }


def start_depths(recipe: RecipeVersion, user: User | None) -> Job:
    """Queue the measuring of depths; one that waits or runs already is returned instead."""
    title = f"Measure shortlist depths of {recipe.name} v{recipe.version}"
    return queue_job(recipe, user, kind=DEPTH, title=title)


def measure_depths(recipe: RecipeVersion, progress: Progress) -> Survey:
    """Measure recall and time at every depth with the labelled questions of a recipe that has been built.

    Raises
    ------
    DoppioError
        If it is not built, does not rerank, or no question has an answer.
    """
    workspace, core = recipe.workspace, core_recipe(recipe)
    pipeline = open_pipeline(workspace, core)
    if pipeline is None:
        raise NotBuilt("The recipe is not built for the present documents; run its trial first.")
    reranker = reranker_of(pipeline)
    assert core.rerank is not None
    questions = [question for question in core_questions(workspace) if question.answerable]
    step = max(1, -(-len(questions) // DEPTH_QUESTIONS))
    chosen = questions[::step]
    if not chosen:
        raise DoppioError("No labelled question has an answer, so there is no recall to measure.")
    where = positions(pipeline)
    asked = []
    lists = pipeline.fused_many([q.text for q in chosen], [q.beside for q in chosen])
    for question, (fused, first) in zip(chosen, lists, strict=True):
        found = relevance(pipeline.chunks, where, question)
        candidates = pipeline.candidates(fused.chunks.tolist())
        asked.append(Candidates(question.text, found, fused.chunks, candidates, first))
    depths = depths_within(core.fusion["depth"])
    points = depth_curve(reranker, asked, depths, CUTOFFS, blend=core.rerank["blend"], progress=progress)
    kept = [
        {"depth": p.depth, "recall": {str(k): value for k, value in p.recall.items()}, "seconds": p.seconds}
        for p in points
    ]
    record, _ = Survey.objects.update_or_create(
        workspace=workspace, key=depth_key(workspace, pipeline), defaults={"points": kept, "questions": len(asked)}
    )
    return record


def scorers_listed(fitted: Collection[str]) -> list[dict[str, Any]]:
    """Scorers that a recipe can name; of those that were fitted to labels only the ones named."""
    return [{**vars(one), "kind": kind.name} for kind, one in offered(models) if one.shipped or one.name in fitted]


def tried(name: str, question: str, passages: Sequence[str]) -> dict[str, Any]:
    """Scores of passages by a joint scorer, beside those of vectors that were made apart from each other."""
    scorer = kind_of_scorer(name, models).alone(name, models)
    found = scorer.score(question, [Passage(text) for text in passages])
    encoder = models.local(DEFAULT_ENCODER)
    apart = encoder.vectors(passages) @ encoder.questions([question])[0]
    ranks, ranks_apart = _ranks(found.scores), _ranks(apart)
    probabilities = scorer.calibration.probability(found.scores) if scorer.calibration else None
    return {
        "scorer": name,
        "measure": scorer.measure,
        "rows": [
            {
                "position": place + 1,
                "score": float(found.scores[place]),
                "probability": None if probabilities is None else float(probabilities[place]),
                "rank": ranks[place],
                "cosine": float(apart[place]),
                "cosine_rank": ranks_apart[place],
                "window": found.windows[place],
            }
            for place in range(len(passages))
        ],
    }


def rests_on(name: str, question: str, passage: str, around: Sequence[str]) -> list[dict[str, Any]]:
    """By how much a score drops without each sentence; `around` are title and headings before what was read."""
    line = line_before(around[0], around[1:]) if around else ""
    drops = sentence_drops(kind_of_scorer(name, models).alone(name, models), question, passage, line)
    return [{"start": drop.start, "end": drop.end, "drop": drop.drop} for drop in drops]


def _ranks(scores: np.ndarray) -> list[int]:
    """Rank of each, from 1; ties keep their order."""
    ranks = np.empty(len(scores), int)
    ranks[np.argsort(-scores, kind="stable")] = np.arange(1, len(scores) + 1)
    return ranks.tolist()
