"""The same question in other words, by rule: synonyms, another order of words, the short form of a search box."""

import random
import re

from doppio.core.text.stop_words import STOP_WORDS
from training.sections import asked

_COMMON = STOP_WORDS["en"] | {"how", "what", "why", "when", "where", "which", "who", "do", "does", "can", "should"}
_WORD = re.compile(r"[A-Za-z0-9][\w./:+-]*|\S")
# Words that ask for the same in documentation; any may stand for another of its line.
_ALIKE = """
add insert include attach
allow permit enable
activate enable turn on
change modify alter edit
check verify test
choose select pick
clear erase empty
close shut
combine merge join
configure set up adjust
connect link attach
convert turn transform
copy duplicate
create make generate build
define specify state
delete remove erase
disable turn off deactivate
display show
error problem failure
exit quit leave
export save out
fast quick
fail break
find locate search for
fix repair correct solve
get obtain fetch
hide conceal
install put in place set up
keep retain preserve
limit restrict cap
list enumerate
load read in
location place
merge combine join
method way
modify change
move shift
name label
open start
option setting switch
parameter argument setting
picture image
prevent avoid stop
print output
purpose use
remove delete take away
rename give another name to
replace exchange swap
report tell
restore bring back recover
run execute start
save store keep
send pass
slow sluggish
split divide separate
start begin launch
stop end halt
store keep save
use apply employ
view look at see
write produce
""".strip().split("\n")
_MULTIPLE = {"turn on", "set up", "turn off", "save out", "search for", "put in place", "read in", "take away",
             "give another name to", "bring back", "look at"}  # fmt: skip
_LEADS = (
    "I want to know {0}", "Can somebody tell me {0}", "Question: {0}", "We need to find out {0}",
    "{0} Please explain.", "In our case: {0}",
)  # fmt: skip
_HOW = re.compile(r"^How (?:do|can|should) (?:I|we|you) (.+?)\??$", re.IGNORECASE)
_HOW_FORMS = (
    "Is there a way to {0}?", "I would like to {0}. How?", "What do I have to do to {0}?", "steps to {0}",
    "I need to {0}", "Can I {0}?", "What is the procedure to {0}?",
)  # fmt: skip


def _alike() -> dict[str, list[str]]:
    found: dict[str, list[str]] = {}
    for line in _ALIKE:
        words = [line]
        for together in _MULTIPLE:
            words = [part for word in words for part in _parted(word, together)]
        singles = [single for word in words for single in ([word] if word in _MULTIPLE else word.split())]
        for single in singles:
            found.setdefault(single, []).extend(other for other in singles if other != single)
    return found


def _parted(text: str, together: str) -> list[str]:
    if text in _MULTIPLE or together not in text:
        return [text]
    before, after = text.split(together, 1)
    return [part.strip() for part in (before, together, after) if part.strip()]


ALIKE = _alike()


def reworded(question: str, dice: random.Random) -> str:
    """The question as somebody else might put it."""
    text = asked(question)
    if (found := _HOW.match(text)) and dice.random() < 0.6:
        text = dice.choice(_HOW_FORMS).format(found[1])
    elif dice.random() < 0.2:
        text = dice.choice(_LEADS).format(text[:1].lower() + text[1:])
    return "".join(_other(part, dice) for part in re.split(r"(\W+)", text))


def _other(word: str, dice: random.Random) -> str:
    others = ALIKE.get(word.lower())
    if not others or dice.random() < 0.4:
        return word
    other = dice.choice(others)
    return other.capitalize() if word[:1].isupper() else other


def keywords(question: str, dice: random.Random) -> str:
    """What somebody types into a search box: the words that carry meaning, small, sometimes in another order."""
    words = [word for word in _WORD.findall(question) if word[:1].isalnum() and word.lower() not in _COMMON]
    if len(words) < 2:
        return question
    if dice.random() < 0.3:
        dice.shuffle(words)
    return " ".join(words) if dice.random() < 0.3 else " ".join(words).lower()
