"""What a step of training draws: questions, each with a right passage and hard ones; some have no right one."""

import random
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from training.details import DETAIL
from training.mining import WINDOWS, Mined, Question
from training.sections import HOW_TO, asked
from training.wording import keywords, reworded

QUESTIONS_A_STEP, HARD = 6, 6
HARD_FROM = 50
HEADINGS, DETAILS, ABSENT = "headings", "details", "absent"
# Of ten turns six are headings, three details, and one is a question whose section was taken out.
TURNS = (HEADINGS, DETAILS, HEADINGS, HEADINGS, DETAILS, HEADINGS, HEADINGS, DETAILS, HEADINGS, ABSENT)
# How a heading is asked: as it stands or as a question, in other words, or shortly.
REWORDED_SHARE, KEYWORDS_SHARE = 0.3, 0.15
# Lines before windows: most have title and headings, some the last heading alone, some nothing.
BARE_SHARE, LAST_SHARE = 0.25, 0.15
LARGE_SHARE = 0.2
# Passages that repeat the question and answer nothing; the scorer learns that they are not what is wanted.
ECHOES = (
    "{0}", "{0} See the next chapter.", "This section is about the following: {0}", "Many readers ask: {0}",
    "{0} This has been asked before and will be asked again.", "Contents. {1}. {0}. {2}. Index.", "{2}\n\n{0}\n\n{1}",
    "We are often asked: {0} {1} {2} The answers are in the pages that follow.", "{0}\n\n{3}",
)  # fmt: skip
ECHO_SHARE = 0.2


@dataclass(frozen=True)
class Group:
    """A question, its right passage first where it has one, then hard ones."""

    question: str
    passages: list[str]
    answered: bool


class Groups:
    """Draws the groups of a step; the same step gives the same groups in every run."""

    def __init__(self, mined: Sequence[Mined], seed: int = 11) -> None:
        self._seed = seed
        self._kinds: dict[str, list[tuple[Mined, Question]]] = {HEADINGS: [], DETAILS: [], ABSENT: []}
        for one in mined:
            for question in one.questions:
                size = WINDOWS[0]
                if (question.answerable and not _right(question, size).size) or _wrong(question).size < HARD + 1:
                    continue
                kind = DETAILS if question.kind == DETAIL else HEADINGS
                self._kinds[kind if question.answerable else ABSENT].append((one, question))
        for kind, found in self._kinds.items():
            random.Random(f"{seed} {kind}").shuffle(found)

    def __len__(self) -> int:
        return sum(map(len, self._kinds.values()))

    def step(self, number: int) -> list[Group]:
        """Groups of one step; kinds come by turns, and each question once before any of its kind comes again."""
        found = []
        for place in range(number * QUESTIONS_A_STEP, (number + 1) * QUESTIONS_A_STEP):
            rounds, turn = divmod(place, len(TURNS))
            kind = TURNS[turn]
            own = self._kinds[kind]
            row = rounds * TURNS.count(kind) + TURNS[:turn].count(kind)
            found.append(_group(*own[row % len(own)], random.Random(f"{self._seed} {place}")))
        return found


def _group(mined: Mined, question: Question, dice: random.Random) -> Group:
    text = _asked(question, dice)
    size = WINDOWS[1] if dice.random() < LARGE_SHARE and _right(question, WINDOWS[1]).size else WINDOWS[0]
    rows: list[int] = []
    if question.answerable:
        right = _right(question, size)
        # The best that is found, or any that answers.
        rows.append(int(right[0] if dice.random() < 0.6 else dice.choice(right.tolist())))
    wrong = _wrong(question).tolist()
    # The first are the hardest, and come more often.
    near = wrong[: 2 * HARD]
    wanted = HARD + 1 - len(rows)
    hard = dice.sample(near, min(len(near), wanted - 2))
    rest = [row for row in wrong if row not in hard]
    rows += hard + dice.sample(rest, wanted - len(hard))
    lines = dice.random()
    passages = [_passage(mined, question, row, size, lines) for row in rows]
    if dice.random() < ECHO_SHARE:
        others = (q.text for q in dice.sample(mined.questions, 2))
        passages[-1] = dice.choice(ECHOES).format(text, *others, passages[-1])
    return Group(text, passages, question.answerable)


def _asked(question: Question, dice: random.Random) -> str:
    text = question.text
    if question.kind == DETAIL:
        return text
    chance = dice.random()
    if chance < REWORDED_SHARE:
        return reworded(text, dice)
    if chance < REWORDED_SHARE + KEYWORDS_SHARE:
        return keywords(text, dice)
    return asked(text) if question.kind == HOW_TO and dice.random() < 0.5 else text


def _right(question: Question, size: int) -> np.ndarray:
    """Candidates whose window answers, best first."""
    return np.flatnonzero(question.right & question.in_window[size])


def _wrong(question: Question) -> np.ndarray:
    """Candidates that hold nothing of the answer, best first."""
    return np.flatnonzero(~question.touches[:HARD_FROM] & ~question.right[:HARD_FROM])


def _passage(mined: Mined, question: Question, row: int, size: int, lines: float) -> str:
    """A window with the line before it."""
    chunk = int(question.chunks[row])
    start, end = question.windows[size][row]
    line = mined.lines[chunk]
    if lines < BARE_SHARE:
        line = ""
    elif lines < BARE_SHARE + LAST_SHARE:
        line = line.rsplit(": ", 1)[-1]
    return f"{line}\n{mined.passages[chunk][start:end]}".lstrip()
