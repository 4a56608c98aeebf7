"""What a step of training draws: questions, each with a right passage and wrong ones; some repeat the question."""

import random
from collections.abc import Sequence
from dataclasses import dataclass

from training.details import DETAIL, details
from training.mining import Mined, Question
from training.sections import HOW_TO, asked

QUESTIONS_A_STEP, HARD = 4, 5
HARD_FROM = 20
# Two headings, then one detail: headings teach most, details keep the scorer from looking for topics alone.
TURNS = (0, 0, 1)
# Passages that repeat the question and answer nothing; the scorer learns that they are not what is wanted.
ECHOES = (
    "{0}", "{0} See the next chapter.", "This section is about the following: {0}", "Many readers ask: {0}",
    "{0} This has been asked before and will be asked again.", "Contents. {1}. {0}. {2}. Index.", "{2}\n\n{0}\n\n{1}",
    "We are often asked: {0} {1} {2} The answers are in the pages that follow.", "{0}\n\n{3}",
)  # fmt: skip
ECHO_SHARE, RUN_ON_SHARE, HEADED_SHARE = 0.3, 0.25, 0.3


@dataclass(frozen=True)
class Group:
    """A question, its right passage first, then hard ones."""

    question: str
    passages: list[str]


class Groups:
    """Draws the groups of a step; the same step gives the same groups in every run."""

    def __init__(self, manuals: Sequence[Mined], seed: int = 11) -> None:
        self._seed = seed
        self._kinds = [
            [(mined, q) for mined in manuals for q in asking(mined) if len(_wrong(q)) >= HARD]
            for asking in (lambda mined: mined.questions, details)
        ]

    def __len__(self) -> int:
        return sum(map(len, self._kinds))

    def step(self, number: int) -> list[Group]:
        """Groups of one step, headings and details by turns; each comes once before any of its kind comes again."""
        found = []
        for place in range(number * QUESTIONS_A_STEP, (number + 1) * QUESTIONS_A_STEP):
            rounds, turn = divmod(place, len(TURNS))
            kind = TURNS[turn]
            groups = self._kinds[kind]
            passed, row = divmod(rounds * TURNS.count(kind) + TURNS[:turn].count(kind), len(groups))
            order = list(range(len(groups)))
            random.Random(f"{self._seed} {kind} {passed}").shuffle(order)
            found.append(_group(*groups[order[row]], random.Random(f"{self._seed} {place}")))
        return found


def _group(mined: Mined, question: Question, dice: random.Random) -> Group:
    text = question.text
    if question.kind == HOW_TO and dice.random() < 0.5:
        text = asked(text)
    right = question.right.tolist()
    near = [chunk for chunk in question.ranked.tolist() if chunk in right]
    best = near[0] if near and dice.random() < 0.5 else right[min(int(dice.random() * 1.5), len(right) - 1)]
    chosen = [best, *dice.sample(_wrong(question), HARD)]
    # Chunks of a corpus are cut less neatly than sections: some groups have passages that run on, or with headings.
    run_on = dice.random() < RUN_ON_SHARE
    passages = [_passage(mined, chunk, run_on and chunk + 1 not in right) for chunk in chosen]
    if question.kind == DETAIL and dice.random() < HEADED_SHARE:
        headings = {q.section: q.text for q in mined.questions}
        passages = [
            f"{headings.get(int(mined.section[chunk]), '')}\n\n{passage}".lstrip()
            for chunk, passage in zip(chosen, passages, strict=True)
        ]
    if dice.random() < ECHO_SHARE:
        others = (q.text for q in dice.sample(mined.questions, 2))
        passages[-1] = dice.choice(ECHOES).format(text, *others, passages[-1])
    return Group(text, passages)


def _wrong(question: Question) -> list[int]:
    """Hard passages: those of the first that do not answer."""
    right = set(question.right.tolist())
    return [chunk for chunk in question.ranked[:HARD_FROM].tolist() if chunk not in right]


def _passage(mined: Mined, chunk: int, run_on: bool) -> str:
    """A passage, with the one after it where it shall run on; what is too long is cut off by tokens later."""
    following = mined.passages[chunk + 1] if run_on and chunk + 1 < len(mined.passages) else ""
    return f"{mined.passages[chunk]}\n\n{following}".rstrip()
