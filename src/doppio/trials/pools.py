"""Pools: what several recipes found, judged one passage at a time without being told who found it."""

import random
from collections import defaultdict
from itertools import combinations
from typing import Any

from django.contrib.auth.models import User
from django.db import transaction
from django.db.models import Count, Q
from procrastinate.contrib.django import app

from doppio.core.errors import QuestionError
from doppio.core.measure.agreement import cohens_kappa
from doppio.core.measure.judged import handed_on, hosts
from doppio.core.pipeline import Pipeline
from doppio.core.progress import Progress
from doppio.core.trace import Trace
from doppio.jobs.models import Job
from doppio.library.corpus import Corpus, corpus_now
from doppio.library.models import Workspace
from doppio.questions.models import AnswerSpan, Question
from doppio.questions.services import beside_of
from doppio.questions.writing import add_label, check_grade, remove_label
from doppio.recipes.builds import build
from doppio.recipes.models import RecipeVersion
from doppio.recipes.services import core_recipe
from doppio.trials.models import Judgement, Pool, PoolItem

SAME = 0.8
BATCH = 1000
Range = tuple[int, int, int]


@transaction.atomic
def start_pool(
    workspace: Workspace, user: User, name: str, recipes: list[RecipeVersion], depth: int, into: int | None
) -> Job:
    """Queue the making of a pool: each recipe is asked every question of a set, or of all.

    Raises
    ------
    QuestionError
        If the name is another pool's, or there is no recipe or question.
    """
    name = " ".join(name.split())[:120]
    if not name or workspace.pools.filter(name=name).exists():
        raise QuestionError(f"name: {name!r} is empty or another pool's; take another one")
    if not recipes:
        raise QuestionError("recipes: none; a pool is what at least one finds")
    if not _questions(workspace, into).exists():
        raise QuestionError("set: holds no question to judge passages for")
    job = Job.objects.create(
        workspace=workspace, kind="pool", title=f"Make the pool {name}", started_by=user,
        details={"name": name, "recipes": [row.pk for row in recipes], "depth": depth, "set": into},
    )  # fmt: skip
    app.configure_task("pool").defer(job=job.pk)
    return job


def fill_pool(job: Job, progress: Progress) -> Pool:
    """Ask what has to be asked and keep the union of the first passages, by lot."""
    workspace = job.workspace
    corpus = corpus_now(workspace)
    questions = list(_questions(workspace, job.details["set"]))
    found: dict[int, list[Range]] = defaultdict(list)
    recipes = list(workspace.recipes.filter(pk__in=job.details["recipes"]))
    for recipe in recipes:
        pipeline = build(workspace, core_recipe(recipe), progress, corpus)
        kept = _traces(recipe, corpus)
        progress.start(f"ask {recipe.name} v{recipe.version}", len(questions), "questions")
        for question in questions:
            trace = kept.get(question.pk) or pipeline.ask(question.text, beside_of(question))
            for place in _passages(pipeline, trace, corpus, job.details["depth"]):
                if not any(_same(place, other) for other in found[question.pk]):
                    found[question.pk].append(place)
            progress.advance(1)
    return _keep(job, recipes, questions, found)


@transaction.atomic
def _keep(job: Job, recipes: list[RecipeVersion], questions: list[Question], found: dict[int, list[Range]]) -> Pool:
    pool = Pool.objects.create(
        workspace=job.workspace, name=job.details["name"], depth=job.details["depth"], made_by=job.started_by,
        recipes=[{"name": row.name, "version": row.version} for row in recipes],
    )  # fmt: skip
    labels: dict[int, list[Range]] = defaultdict(list)
    spans = AnswerSpan.objects.filter(question__in=[row.pk for row in questions], lost=False, start__isnull=False)
    for asked, owner, low, high in spans.values_list("question", "document", "start", "end"):
        if owner is not None and low is not None and high is not None:
            labels[asked].append((owner, low, high))
    there = set(job.workspace.documents.values_list("pk", flat=True))
    lot = random.Random(pool.pk)
    lot.shuffle(questions)
    items: list[PoolItem] = []
    for question in questions:
        passages = [passage for passage in found[question.pk] if passage[0] in there]
        lot.shuffle(passages)
        for document, start, end in passages:
            covered = any(_meets((document, start, end), label) for label in labels[question.pk])
            items.append(
                PoolItem(pool=pool, question=question, document_id=document, start=start, end=end,
                         place=len(items), covered=covered)
            )  # fmt: skip
    PoolItem.objects.bulk_create(items, BATCH)
    return pool


def listed(workspace: Workspace, judge: User) -> list[dict[str, Any]]:
    """The pools with how far they are, and who has judged how much; three queries."""
    pools = list(workspace.pools.annotate(count=Count("items")))
    given: dict[int, list[dict[str, Any]]] = defaultdict(list)
    rows = Judgement.objects.filter(item__pool__in=pools).values("item__pool", "judge__username", "judge")
    for row in rows.annotate(count=Count("pk")).order_by("judge__username"):
        judged = {"judge": row["judge__username"], "count": row["count"], "own": row["judge"] == judge.pk}
        given[row["item__pool"]].append(judged)
    return [
        {"id": pool.pk, "name": pool.name, "depth": pool.depth, "recipes": pool.recipes, "made_at": pool.made_at,
         "items": pool.count, "judges": given[pool.pk],
         "own": next((row["count"] for row in given[pool.pk] if row["own"]), 0)}
        for pool in pools
    ]  # fmt: skip


def to_judge(pool: Pool, judge: User, count: int) -> list[dict[str, Any]]:
    """The next passages that a judge has not judged; nothing in them says who found them or what others gave."""
    own = Judgement.objects.filter(judge=judge, item__pool=pool).values("item")
    rows = pool.items.exclude(pk__in=own).select_related("question", "document")
    return [
        {"id": row.pk, "question": row.question_id, "text": row.question.text, "document": row.document_id,
         "title": row.document.title, "start": row.start, "end": row.end,
         "passage": row.document.text[row.start : row.end]}
        for row in rows.defer("document__blocks", "document__found")[:count]
    ]  # fmt: skip


@transaction.atomic
def judge_item(item: PoolItem, judge: User, grade: float) -> None:
    """Note what a judge says, and let the label follow.

    Raises
    ------
    QuestionError
        If the grade is none, or the question is marked as one that nothing answers.
    """
    check_grade(grade)
    Judgement.objects.update_or_create(item=item, judge=judge, defaults={"grade": grade})
    _follow(item, judge)


@transaction.atomic
def take_back(item: PoolItem, judge: User) -> None:
    """Take a judge's own grade back."""
    Judgement.objects.filter(item=item, judge=judge).delete()
    _follow(item, judge)


@transaction.atomic
def settle(item: PoolItem, judge: User, grade: float) -> None:
    """Decide where judges differ."""
    check_grade(grade)
    item.settled, item.settled_by = grade, judge
    item.save(update_fields=["settled", "settled_by"])
    _follow(item, judge)


def _follow(item: PoolItem, judge: User) -> None:
    """The label of a passage is what was settled, or else the lower of the middle grades."""
    grades = sorted(item.judgements.values_list("grade", flat=True))
    grade = item.settled if item.settled is not None else grades[(len(grades) - 1) // 2] if grades else None
    if grade is None:
        # A label from before the pool is left as it is.
        if item.label is not None and not item.covered:
            remove_label(item.label)
        return
    item.label = add_label(item.question, item.document, item.start, item.end, grade, judge)
    item.save(update_fields=["label"])


def agreement(pool: Pool) -> dict[str, Any]:
    """How far each two judges agree, and the passages on which any differ; those that were settled come last."""
    given: dict[int, dict[str, float]] = defaultdict(dict)
    rows = Judgement.objects.filter(item__pool=pool).order_by("pk")
    for item, name, grade in rows.values_list("item", "judge__username", "grade"):
        given[item][name] = grade
    names = sorted({name for grades in given.values() for name in grades})
    pairs = []
    for one, other in combinations(names, 2):
        both = [grades for grades in given.values() if one in grades and other in grades]
        kappa = cohens_kappa([grades[one] for grades in both], [grades[other] for grades in both])
        pairs.append({"judges": [one, other], **vars(kappa)})
    differ = [item for item, grades in given.items() if len(set(grades.values())) > 1]
    items = pool.items.filter(pk__in=differ).select_related("question", "document", "settled_by")
    shown = [
        {"id": row.pk, "text": row.question.text, "question": row.question_id, "document": row.document_id,
         "title": row.document.title, "start": row.start, "end": row.end,
         "passage": row.document.text[row.start : row.end], "settled": row.settled,
         "settled_by": row.settled_by.get_username() if row.settled_by else None,
         "grades": [{"judge": name, "grade": grade} for name, grade in sorted(given[row.pk].items())]}
        for row in items.defer("document__blocks", "document__found").order_by("settled", "place")[:200]
    ]  # fmt: skip
    shown.sort(key=lambda row: row["settled"] is not None)
    return {"pairs": pairs, "differ": shown, "differ_count": len(differ)}


def _questions(workspace: Workspace, into: int | None) -> Any:
    chosen = Q(set=into) if into is not None else Q(set__measured=True)
    return workspace.questions.filter(chosen, unanswerable=False).order_by("position")


def _traces(recipe: RecipeVersion, corpus: Corpus) -> dict[int, Trace]:
    """What a trial on the same documents has kept."""
    trial = recipe.trials.filter(corpus=corpus.key).order_by("-pk").first()
    if trial is None:
        return {}
    return {row.question_id: Trace.from_json(row.trace) for row in trial.rows.iterator(chunk_size=200)}


def _passages(pipeline: Pipeline, trace: Trace, corpus: Corpus, depth: int) -> list[Range]:
    """The first passages of what comes before the context, as they are handed on."""
    ranking = handed_on(trace.stages[-2].ranking, pipeline.chunks)[:depth]
    return [(corpus.documents[document], start, end) for document, start, end in hosts(ranking, pipeline.chunks)]


def _overlap(one: Range, other: Range) -> int:
    return min(one[2], other[2]) - max(one[1], other[1]) if one[0] == other[0] else 0


def _same(one: Range, other: Range) -> bool:
    """Whether two cuts hand on nearly the same text, which is judged once."""
    return _overlap(one, other) >= SAME * max(one[2] - one[1], other[2] - other[1])


def _meets(passage: Range, label: Range) -> bool:
    shorter = min(passage[2] - passage[1], label[2] - label[1])
    return _overlap(passage, label) * 2 >= shorter > 0
