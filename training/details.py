"""Questions about a detail: a cell of a table's row, or what one sentence of a passage says.

Headings ask for a whole section. People ask for one code, one limit, one condition; these questions are made from the
text itself, so that the scorer learns to look for the sentence that says it.
"""

import itertools
import random
import re
from collections.abc import Iterator

import numpy as np

from doppio.core.branches.sparse.building import build_postings
from doppio.core.branches.sparse.index import Segment, SparseIndex
from doppio.core.branches.sparse.terms import terms_of, weighting_of
from doppio.core.recipe.check import check
from doppio.core.text.analysis import Analysis
from doppio.core.text.sentences import sentence_starts
from doppio.core.text.stop_words import STOP_WORDS
from training.mining import RECIPE, Mined, Question

MOST, RANKED = 250, 20
DETAIL, MOST_RIGHT = "detail", 3
_PAIR = re.compile(r"([^:;\n]{2,32}): ([^;\n]{1,90})(?:; |$)")
_COMMON = STOP_WORDS["en"]
_WORD = re.compile(r"[A-Za-z0-9][\w./:-]*\w")
_SENTENCE_WORDS = range(7, 40)
_IF = re.compile(r"^(If|When) ([^,.;:]{12,90}), ")
_TO = re.compile(r"^To ([a-z][^,.;:]{10,80}), ")
_IS = re.compile(r"^(The|An?) ([^,.;:()]{6,60}?) (is|are|must be|can be|should be|specifies|contains|returns|means) ")
_ROW_FORMS = (
    "What is the {wanted} of {key}?", "{wanted} for {key}", "What {wanted} does {key} have?", "{key} {wanted}",
    "Which {kind} has {wanted} {value}?", "What does {key} stand for?",
)  # fmt: skip
Detail = tuple[str, str]
BRANCH = check(RECIPE).branches[0]


def details(mined: Mined) -> list[Question]:
    """Questions, each with the passages that hold what it asks for and those that share most words with it."""
    passages = mined.passages
    dice = random.Random(mined.manual)
    made: dict[str, str] = {}
    order = list(range(len(passages)))
    dice.shuffle(order)
    rows = sentences = 0
    for place in order:
        for question, held in _rows(passages[place], dice):
            if rows < MOST // 3 and question not in made:
                made[question] = held
                rows += 1
        for question, held in _sentences(passages[place], dice):
            if sentences < MOST and question not in made:
                made[question] = held
                sentences += 1
    index = SparseIndex([Segment(build_postings(passages, len(passages), Analysis.of(BRANCH["analysis"])))])
    found = []
    for question, held in made.items():
        right = [place for place, text in enumerate(passages) if held in text]
        ranked, scores = index.search(terms_of(BRANCH, question), RANKED + len(right), weighting_of(BRANCH))[:2]
        if len(right) <= MOST_RIGHT:
            found.append(Question(question, DETAIL, -1, ranked, scores, np.array(right, np.int64)))
    return found


def _rows(passage: str, dice: random.Random) -> Iterator[Detail]:
    """One question about one row of a table, where the passage has any."""
    rows = [(line, pairs) for line in passage.split("\n") if len(pairs := _PAIR.findall(line)) > 1]
    if not rows:
        return
    line, pairs = dice.choice(rows)
    kind, key = pairs[0]
    wanted, value = dice.choice(pairs[1:])
    if len(key) < 60 and len(value) > 1:
        form = dice.choice(_ROW_FORMS)
        yield form.format(kind=kind.strip().lower(), key=key, wanted=wanted.strip().lower(), value=value[:60]), line


def _sentences(passage: str, dice: random.Random) -> Iterator[Detail]:
    """One question about one sentence."""
    starts = [0, *sentence_starts(passage).tolist(), len(passage)]
    spans = [passage[a:b].strip() for a, b in itertools.pairwise(starts)]
    fitting = [span for span in spans if len(span.split()) in _SENTENCE_WORDS]
    if not fitting:
        return
    natural = [(span, question) for span in fitting if (question := _natural(span))]
    if natural and dice.random() < 0.75:
        span, question = dice.choice(natural)
    else:
        span = dice.choice(fitting)
        question = _keywords(span, dice)
    if question:
        yield question, span


def _natural(sentence: str) -> str:
    """What somebody would ask whom this sentence answers, where its form tells."""
    if found := _IF.match(sentence):
        return f"What happens {found[1].lower()} {found[2]}?"
    if found := _TO.match(sentence):
        return f"How do I {found[1]}?"
    if found := _IS.match(sentence):
        verb = found[3].split()[0]
        thing = f"{found[1].lower()} {found[2]}"
        if verb in ("is", "are"):
            return f"What {verb} {thing}?"
        return f"What {verb} {thing} be?" if verb in ("must", "can", "should") else f"What does {thing} do?"
    return ""


def _keywords(sentence: str, dice: random.Random) -> str:
    """Some of the longer words of a sentence, in their order."""
    said = [word for word in _WORD.findall(sentence) if word.lower() not in _COMMON]
    words = [word for word in said if len(word) > 3 or any(sign.isdigit() for sign in word)]
    if len(words) < 4:
        return ""
    kept = sorted(dice.sample(range(len(words)), min(len(words), dice.randint(3, 6))))
    return " ".join(words[place] for place in kept)
