"""A gate: what figures must hold for a change to go on."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import regex

from doppio.core.errors import DoppioError
from doppio.core.measure.comparing import LEVEL, Difference, compare, holm, in_words
from doppio.core.measure.ledger import DELIVERED
from doppio.core.measure.trial import Trial

_LIMIT = regex.compile(r"(?:(?P<stage>[^:=\s]+):)?(?P<metric>[^:=\s]+)=(?P<least>[^=\s]+)")
LAST = ""


@dataclass(frozen=True)
class Figure:
    """A metric after a stage; after the last one where `stage` is empty."""

    metric: str
    stage: str = LAST

    def __str__(self) -> str:
        return f"{self.stage}:{self.metric}" if self.stage else self.metric


@dataclass(frozen=True)
class Limit:
    """What a figure may not fall below."""

    figure: Figure
    least: float


@dataclass(frozen=True)
class Told:
    """A trial as a gate looks at it: of every answerable question, by its id, each figure.

    stages : in their order
    values : by stage and question, metrics by name
    """

    name: str
    stages: Sequence[str]
    values: Mapping[str, Mapping[str, Mapping[str, float]]]

    @classmethod
    def of(cls, name: str, trial: Trial) -> "Told":
        """What a trial found."""
        rows = [row for row in trial.rows if row.question.answerable]
        values = {
            stage: {row.question.id: {**row.metrics[stage], DELIVERED: float(row.cause == DELIVERED)} for row in rows}
            for stage in trial.stages
        }
        return cls(name, list(trial.stages), values)

    def figure(self, wanted: Figure) -> dict[str, float]:
        """A figure by question.

        Raises
        ------
        DoppioError
            If no question has it; says which there are.
        """
        stage = wanted.stage or (self.stages[-1] if self.stages else "")
        if stage not in self.values:
            raise DoppioError(f"{wanted}: {self.name} has no stage {stage!r}; there are {', '.join(self.stages)}")
        rows = self.values[stage]
        found = {question: row[wanted.metric] for question, row in rows.items() if wanted.metric in row}
        if not found and rows:
            known = dict.fromkeys(name for row in rows.values() for name in row)
            raise DoppioError(f"{wanted}: no such metric; {self.name} has {', '.join(known)} after {stage}")
        return found


@dataclass(frozen=True)
class Check:
    """One thing that was looked at.

    name : of the trial; `what` was looked at, `said` is how it stands, `holds` whether it may go on
    """

    name: str
    what: str
    said: str
    holds: bool


@dataclass(frozen=True)
class Compared:
    """A figure of a trial against the baseline's; `p` is corrected for all that were compared."""

    name: str
    figure: Figure
    mean: float
    difference: Difference
    p: float

    @property
    def said(self) -> str:
        """The difference in words."""
        return in_words(self.difference, self.p)


def limit(text: str) -> Limit:
    """Read `recall@5=0.80` or `fused:recall@20=0.9`.

    Raises
    ------
    DoppioError
        If it is neither.
    """
    found = _LIMIT.fullmatch(text)
    try:
        least = float(found["least"]) if found else np.nan
    except ValueError:
        least = np.nan
    if found is None or not 0 <= least <= 1:
        raise DoppioError(f"{text!r} is not a metric and what it may not fall below, such as recall@5=0.80")
    return Limit(Figure(found["metric"], found["stage"] or LAST), least)


def figure(text: str) -> Figure:
    """Read `recall@5` or `fused:recall@20`."""
    stage, _, metric = text.rpartition(":")
    return Figure(metric, stage)


def compared(trials: Sequence[Told], baseline: Told, figures: Sequence[Figure]) -> list[Compared]:
    """Every trial against the baseline, over the questions that both know; p is corrected over all of them."""
    found = []
    for wanted in figures:
        before = baseline.figure(wanted)
        for trial in trials:
            after = trial.figure(wanted)
            both = [question for question in after if question in before]
            table = np.array([[before[q] for q in both], [after[q] for q in both]])
            (difference,) = compare(table.reshape(2, len(both)), [(0, 1)])
            mean = float(np.mean(list(after.values()))) if after else 0.0
            found.append(Compared(trial.name, wanted, mean, difference, difference.p))
    corrected = holm([one.p for one in found])
    return [
        Compared(one.name, one.figure, one.mean, one.difference, p) for one, p in zip(found, corrected, strict=True)
    ]


def checks(
    trials: Sequence[Told], limits: Sequence[Limit], found: Sequence[Compared], worst: float | None
) -> list[Check]:
    """What holds and what does not.

    Parameters
    ----------
    trials : those that are gated
    limits : figures, and what they may not fall below
    found : comparisons with the baseline
    worst : the loss that is borne; None where losses are not looked at

    Notes
    -----
    A loss closes the gate where it is larger than `worst` and no chance: its corrected p is below .05.
    """
    made = []
    for one in limits:
        for trial in trials:
            values = trial.figure(one.figure)
            mean = float(np.mean(list(values.values()))) if values else 0.0
            what = f"{one.figure} at least {one.least:g}"
            made.append(Check(trial.name, what, f"{mean:.4f} of {len(values)} questions", mean >= one.least))
    for told in found if worst is not None else ():
        assert worst is not None
        apart = told.difference
        said = f"{apart.mean:+.4f} ({apart.low:+.4f} to {apart.high:+.4f}), p {told.p:.3f}"
        lost = apart.mean < -worst and told.p < LEVEL
        made.append(Check(told.name, f"{told.figure} no worse than the baseline by {worst:g}", said, not lost))
    return made
