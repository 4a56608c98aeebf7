"""What a workspace's file holds of trials and pools: figures, traces, and what judges said."""

import base64
from collections.abc import Iterator, Mapping

import numpy as np
from django.db.models import Prefetch
from django.utils.dateparse import parse_datetime

from doppio.library.carrying import People, Row, carried, fields_of
from doppio.library.models import Document, Workspace
from doppio.questions.models import AnswerSpan
from doppio.trials import figures, outside
from doppio.trials.models import (
    Gate,
    GateResult,
    Judgement,
    OutsideRun,
    Pool,
    PoolItem,
    Sweep,
    SweepRow,
    TrialFigures,
    TrialRecord,
    TrialRow,
)

AT_ONCE = 200
TRIAL = ("corpus", "marked", "measures", "stages", "levels", "ledger", "seconds", "documents", "chunks", "intact",
         "answerable", "questions", "origin", "answers")  # fmt: skip
# What older files do not have.
LATER: Row = {"answers": {}}
ROW = ("cause", "ranks", "in_play", "intact", "trace")
SWEEP = ("axes", "figure", "by", "most", "seed", "corpus", "marked", "questions", "found")
TRIED = ("place", "settings", "mean", "asked")
RUN = ("name", "corpus", "marked", "measures", "metrics")
GATE = ("metric", "stage", "least", "worst", "every")
SAID = ("mean", "questions", "open", "reasons", "against", "before", "documents", "moved")
ITEM = ("start", "end", "place", "covered", "settled")


class Trials:
    """Every trial with what became of each question."""

    name = "trials"

    def rows(self, workspace: Workspace) -> Iterator[Row]:
        """A trial, its figures as one table, then a row for each of its questions."""
        names = dict(workspace.questions.values_list("pk", "identity"))
        for trial in workspace.trials.order_by("pk").select_related("recipe"):
            yield {
                "recipe": [trial.recipe.name, trial.recipe.version], "measured_at": trial.measured_at.isoformat(),
                **{name: getattr(trial, name) for name in TRIAL},
            }  # fmt: skip
            kept = TrialFigures.objects.filter(trial=trial).first()
            if kept is not None:
                yield _figures(kept, names)
            for row in trial.rows.order_by("pk").select_related("question").iterator(chunk_size=AT_ONCE):
                yield {"question": row.question.identity, **{name: getattr(row, name) for name in ROW}}

    def take(self, workspace: Workspace, rows: Iterator[Row], people: People) -> None:
        recipes = {(row.name, row.version): row for row in workspace.recipes.all()}
        questions = dict(workspace.questions.values_list("identity", "pk"))
        trial: TrialRecord | None = None
        batch: list[TrialRow] = []
        for row in rows:
            if "recipe" in row:
                recipe = recipes[tuple(row["recipe"])]
                trial = TrialRecord.objects.create(
                    workspace=workspace, recipe=recipe, **fields_of(LATER | row, *TRIAL)
                )
                TrialRecord.objects.filter(pk=trial.pk).update(measured_at=parse_datetime(row["measured_at"]))
                continue
            assert trial is not None, "a row without its trial"
            if "values" in row:
                _take_figures(trial, row, questions)
                continue
            batch.append(TrialRow(trial=trial, question_id=questions[row["question"]], **fields_of(row, *ROW)))
            if len(batch) == AT_ONCE:
                TrialRow.objects.bulk_create(batch)
                batch = []
        TrialRow.objects.bulk_create(batch)


def _figures(row: TrialFigures, names: Mapping[int, str]) -> Row:
    found = figures.read(row)
    there = [place for place, question in enumerate(found.questions) if question in names]
    return {
        "questions": [names[found.questions[place]] for place in there],
        "stages": list(found.stages), "metrics": list(found.metrics),
        "costs": dict(found.costs), "values": base64.b64encode(found.values[there].astype("<f4").tobytes()).decode(),
    }  # fmt: skip


def _take_figures(trial: TrialRecord, row: Row, questions: Mapping[str, int]) -> None:
    shape = tuple(len(row[name]) for name in ("questions", "stages", "metrics"))
    values = np.frombuffer(base64.b64decode(row["values"]), "<f4").reshape(shape)
    numbers = [questions[name] for name in row["questions"]]
    figures.write(trial, figures.Figures(numbers, row["stages"], row["metrics"], values, row["costs"]))


class Sweeps:
    """Sweeps with the settings that were tried."""

    name = "sweeps"

    def rows(self, workspace: Workspace) -> Iterator[Row]:
        """A sweep, then a row for each of its settings."""
        for sweep in workspace.sweeps.order_by("pk").select_related("recipe", "made_by"):
            yield {
                "recipe": [sweep.recipe.name, sweep.recipe.version], "made_at": sweep.made_at.isoformat(),
                "made_by": sweep.made_by.get_username() if sweep.made_by else None,
                **{name: getattr(sweep, name) for name in SWEEP},
            }  # fmt: skip
            for row in sweep.rows.iterator(chunk_size=AT_ONCE):
                values = base64.b64encode(bytes(row.values)).decode()
                yield {**{name: getattr(row, name) for name in TRIED}, "values": values}

    def take(self, workspace: Workspace, rows: Iterator[Row], people: People) -> None:
        recipes = {(row.name, row.version): row for row in workspace.recipes.all()}
        sweep: Sweep | None = None
        for row in rows:
            if "recipe" in row:
                sweep = Sweep.objects.create(
                    workspace=workspace, recipe=recipes[tuple(row["recipe"])], made_by=people.of(row["made_by"]),
                    **fields_of(row, *SWEEP),
                )  # fmt: skip
                Sweep.objects.filter(pk=sweep.pk).update(made_at=parse_datetime(row["made_at"]))
                continue
            assert sweep is not None, "settings without their sweep"
            SweepRow.objects.create(sweep=sweep, values=base64.b64decode(row["values"]), **fields_of(row, *TRIED))


class Runs:
    """Rankings from elsewhere with their figures."""

    name = "runs"

    def rows(self, workspace: Workspace) -> Iterator[Row]:
        for run in workspace.outside_runs.select_related("made_by"):
            yield {
                "made_at": run.made_at.isoformat(), "made_by": run.made_by.get_username() if run.made_by else None,
                "text": outside.text_of(run), **{name: getattr(run, name) for name in RUN},
                "questions": outside.names_of(run),
                "values": base64.b64encode(bytes(run.values)).decode(),
            }  # fmt: skip

    def take(self, workspace: Workspace, rows: Iterator[Row], people: People) -> None:
        questions = dict(workspace.questions.values_list("identity", "pk"))
        for row in rows:
            made = OutsideRun.objects.create(
                workspace=workspace, made_by=people.of(row["made_by"]), text=outside.deflated(row["text"]),
                questions=[questions.get(name) for name in row["questions"]],
                values=base64.b64decode(row["values"]), **fields_of(row, *RUN),
            )  # fmt: skip
            OutsideRun.objects.filter(pk=made.pk).update(made_at=parse_datetime(row["made_at"]))


class Gates:
    """Gates with what they said; trials are told by their place among those of the workspace."""

    name = "gates"

    def rows(self, workspace: Workspace) -> Iterator[Row]:
        """A gate, then a row for each of its results, the oldest first."""
        places = {pk: place for place, pk in enumerate(workspace.trials.order_by("pk").values_list("pk", flat=True))}
        for gate in workspace.gates.select_related("recipe", "made_by"):
            yield {
                "gate": [gate.recipe.name, gate.recipe.version] if gate.recipe else None,
                "baseline": places.get(gate.baseline_id) if gate.baseline_id else None,
                "made_by": gate.made_by.get_username() if gate.made_by else None,
                **{name: getattr(gate, name) for name in GATE},
            }  # fmt: skip
            for result in gate.results.order_by("pk"):
                yield {"trial": places[result.trial_id], **{name: getattr(result, name) for name in SAID}}

    def take(self, workspace: Workspace, rows: Iterator[Row], people: People) -> None:
        trials = list(workspace.trials.order_by("pk").values_list("pk", flat=True))
        recipes = {(row.name, row.version): row for row in workspace.recipes.all()}
        gate: Gate | None = None
        for row in rows:
            if "gate" in row:
                gate = Gate.objects.create(
                    workspace=workspace, recipe=recipes[tuple(row["gate"])] if row["gate"] else None,
                    baseline_id=None if row["baseline"] is None else trials[row["baseline"]],
                    made_by=people.of(row["made_by"]), **fields_of(row, *GATE),
                )  # fmt: skip
                continue
            assert gate is not None, "a result without its gate"
            GateResult.objects.create(gate=gate, trial_id=trials[row["trial"]], **fields_of(row, *SAID))


class Pools:
    """Pools with their passages, and what each judge said of them."""

    name = "pools"

    def rows(self, workspace: Workspace) -> Iterator[Row]:
        """A pool, then a row for each of its passages."""
        documents = Prefetch("document", Document.objects.only("pk", "name"))
        given = Prefetch("judgements", Judgement.objects.select_related("judge").order_by("pk"))
        for pool in workspace.pools.order_by("pk").select_related("made_by"):
            yield {
                "pool": pool.name, "depth": pool.depth, "recipes": pool.recipes,
                "made_at": pool.made_at.isoformat(),
                "made_by": pool.made_by.get_username() if pool.made_by else None,
            }  # fmt: skip
            found = pool.items.order_by("pk").select_related("question", "settled_by", "label")
            for item in found.prefetch_related(documents, given).iterator(chunk_size=AT_ONCE):
                yield {
                    "question": item.question.identity, "document": item.document.name,
                    **{name: getattr(item, name) for name in ITEM},
                    "settled_by": item.settled_by.get_username() if item.settled_by else None,
                    "labelled": item.label is not None,
                    "judgements": [
                        {"judge": one.judge.get_username(), "grade": one.grade} for one in item.judgements.all()
                    ],
                }  # fmt: skip

    def take(self, workspace: Workspace, rows: Iterator[Row], people: People) -> None:
        documents = dict(workspace.documents.values_list("name", "pk"))
        questions = dict(workspace.questions.values_list("identity", "pk"))
        spans = AnswerSpan.objects.filter(question__workspace=workspace, lost=False)
        labels = {
            (question, document, start, end): pk
            for question, document, start, end, pk in spans.values_list("question", "document", "start", "end", "pk")
        }
        pool: Pool | None = None
        batch: list[tuple[PoolItem, Row]] = []
        for row in rows:
            if "pool" in row:
                made_by = people.of(row["made_by"])
                pool = Pool.objects.create(
                    workspace=workspace, name=row["pool"], made_by=made_by, **fields_of(row, "depth", "recipes")
                )
                Pool.objects.filter(pk=pool.pk).update(made_at=parse_datetime(row["made_at"]))
                continue
            assert pool is not None, "a passage without its pool"
            question, document = questions[row["question"]], documents[row["document"]]
            label = labels.get((question, document, row["start"], row["end"])) if row["labelled"] else None
            item = PoolItem(
                pool=pool, question_id=question, document_id=document, label_id=label,
                settled_by=people.of(row["settled_by"]), **fields_of(row, *ITEM),
            )  # fmt: skip
            batch.append((item, row))
            if len(batch) == AT_ONCE:
                self._keep(batch, people)
                batch = []
        self._keep(batch, people)

    @staticmethod
    def _keep(batch: list[tuple[PoolItem, Row]], people: People) -> None:
        PoolItem.objects.bulk_create([item for item, _ in batch])
        judgements = []
        for item, row in batch:
            for one in row["judgements"]:
                judge = people.of(one["judge"])
                assert judge is not None, "a judgement without its judge"
                judgements.append(Judgement(item=item, judge=judge, grade=one["grade"]))
        Judgement.objects.bulk_create(judgements)


def connect() -> None:
    """Register the parts."""
    carried(Trials())
    carried(Sweeps())
    carried(Runs())
    carried(Gates())
    carried(Pools())
