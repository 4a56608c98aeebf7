"""Words of the same sense in English, from WordNet's database files where they are installed; nothing is loaded.

The files are read as wndb(5WN) describes them: `index.noun` and its like have a line a word in the order of their
bytes, with the places of its senses in `data.noun`, the commonest first; irregular forms stand in `noun.exc`.

References
----------
.. [1] G. A. Miller, "WordNet: A Lexical Database for English", Communications of the ACM 38(11), 1995.
"""

import mmap
import os
from collections.abc import Iterator
from functools import lru_cache
from pathlib import Path

# Where Debian's package `wordnet-base` puts them, unless `DOPPIO_THESAURUS` names another folder.
FOLDER, NAMED = Path("/usr/share/wordnet"), "DOPPIO_THESAURUS"
PARTS, FILES = ("noun", "verb", "adj", "adv"), ("index.{}", "data.{}", "{}.exc")
# Endings of inflected words and what stands there in the word itself.
ENDINGS = {
    "noun": (("s", ""), ("ses", "s"), ("xes", "x"), ("zes", "z"), ("ches", "ch"), ("shes", "sh"), ("men", "man"),
             ("ies", "y")),
    "verb": (("s", ""), ("ies", "y"), ("es", "e"), ("es", ""), ("ed", "e"), ("ed", ""), ("ing", "e"), ("ing", "")),
    "adj": (("er", ""), ("est", ""), ("er", "e"), ("est", "e")),
    "adv": (),
}  # fmt: skip
WORDS_KEPT = 20_000


class Thesaurus:
    """The files of one folder, mapped."""

    def __init__(self, folder: Path) -> None:
        self._index, self._data, self._exceptions = (
            {part: _mapped(folder / name.format(part)) for part in PARTS} for name in FILES
        )
        self.alike = lru_cache(maxsize=WORDS_KEPT)(self._alike)

    def _alike(self, word: str, senses: int) -> tuple[str, ...]:
        """Words and phrases that share a sense with a word, inflected or not, by its commonest senses in each part of
        speech; the word itself and its base are left out."""
        found: dict[str, None] = {}
        own = {word.lower()}
        for part in PARTS:
            for base in dict.fromkeys(self._bases(word.lower(), part)):
                places = self._places(base, part)
                if not places:
                    continue
                own.add(base)
                for place in places[:senses]:
                    found.update(dict.fromkeys(self._words(place, part)))
                break
        return tuple(one for one in found if one not in own)

    def _bases(self, word: str, part: str) -> Iterator[str]:
        """What an inflected word may come from, the likeliest first."""
        yield word
        line = _line(self._exceptions[part], word)
        if line:
            yield from line.split()[1:]
        for ending, instead in ENDINGS[part]:
            if word.endswith(ending) and len(word) > len(ending) + 1:
                yield word[: len(word) - len(ending)] + instead

    def _places(self, base: str, part: str) -> list[int]:
        """Where the senses of a word stand, the commonest first."""
        line = _line(self._index[part], base.replace(" ", "_"))
        if not line:
            return []
        fields = line.split()
        return [int(place) for place in fields[-int(fields[2]) :]]

    def _words(self, place: int, part: str) -> Iterator[str]:
        data = self._data[part]
        fields = data[place : data.find(b"\n", place)].decode("ascii", "replace").split()
        for word in fields[4 : 4 + 2 * int(fields[3], 16) : 2]:
            # Adjectives may say where they stand, as in "afraid(p)".
            yield word.partition("(")[0].replace("_", " ").lower()


@lru_cache(maxsize=4)
def _opened(folder: Path) -> Thesaurus:
    return Thesaurus(folder)


def installed() -> Thesaurus | None:
    """The thesaurus of this machine; None where there is none."""
    folder = Path(os.environ.get(NAMED, FOLDER))
    there = all((folder / name.format(part)).is_file() for part in PARTS for name in FILES)
    return _opened(folder) if there else None


def _mapped(path: Path) -> mmap.mmap | bytes:
    with path.open("rb") as file:
        return mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ) if path.stat().st_size else b""


def _line(data: mmap.mmap | bytes, word: str) -> str:
    """The line that begins with a word, of a file whose lines are in the order of their bytes, or nothing."""
    if not word or not word.isascii():
        return ""
    wanted = word.encode() + b" "
    low, high = 0, len(data)
    while low < high:
        middle = (low + high) // 2
        begin = data.rfind(b"\n", low, middle) + 1 or low
        end = data.find(b"\n", begin, len(data))
        end = len(data) if end < 0 else end
        line = data[begin:end]
        if line.startswith(wanted):
            return line.decode("ascii", "replace")
        # A line of the licence begins with blanks, before all words.
        if line.partition(b" ")[0] + b" " < wanted:
            low = end + 1
        else:
            high = begin
    return ""
