"""Questions about a detail: a cell of a table's row, or what one sentence of a passage says.

Headings ask for a whole section. People ask for one code, one limit, one condition; these questions are made from the
text itself, so that the scorer learns to look for the sentence that says it.
"""

import itertools
import random
import re
from collections.abc import Iterator, Sequence

from doppio.core.text.sentences import sentence_starts
from doppio.core.text.stop_words import STOP_WORDS

DETAIL, MOST_RIGHT = "detail", 3
# Of the questions so many may be about rows of tables.
ROW_SHARE = 3
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


def details(texts: Sequence[str], seed: str, most: int) -> list[tuple[str, str, list[int]]]:
    """Questions, each with what is said and the texts that say it; what more than three say is not asked."""
    dice = random.Random(seed)
    made: dict[str, str] = {}
    order = list(range(len(texts)))
    dice.shuffle(order)
    rows = 0
    for place in order:
        if len(made) >= 2 * most:
            break
        for question, held in _rows(texts[place], dice):
            if rows < most // ROW_SHARE and question not in made:
                made[question] = held
                rows += 1
        for question, held in _sentences(texts[place], dice):
            made.setdefault(question, held)
    found = []
    for question, held in made.items():
        says = [place for place, text in enumerate(texts) if held in text]
        if len(says) <= MOST_RIGHT:
            found.append((question, held, says))
    return found[:most]


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
