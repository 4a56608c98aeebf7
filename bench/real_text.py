"""Sentences of real text that every installation has: the docstrings of its Python packages."""

import ast
import re
import sys
import sysconfig
from collections.abc import Iterator
from pathlib import Path

_SENTENCE = re.compile(r"[A-Z][^.\n]*(?:\n[^.\n]+)*[.]")
SHORTEST, LONGEST = 4, 30


def sentences(count: int) -> list[str]:
    """The first `count` different sentences of 4 to 30 words, in the order of the files' names."""
    found: dict[str, None] = {}
    for text in _docstrings():
        for match in _SENTENCE.finditer(text):
            words = match[0].split()
            if SHORTEST <= len(words) <= LONGEST:
                found.setdefault(" ".join(words))
        if len(found) >= count:
            break
    return list(found)[:count]


def _docstrings() -> Iterator[str]:
    folders = dict.fromkeys([sysconfig.get_path("purelib"), sysconfig.get_path("stdlib")])
    for folder in folders:
        for path in sorted(Path(folder).rglob("*.py")):
            try:
                tree = ast.parse(path.read_text(encoding="utf-8"))
            except (SyntaxError, ValueError, OSError):
                continue
            for node in ast.walk(tree):
                if isinstance(node, ast.Module | ast.ClassDef | ast.FunctionDef | ast.AsyncFunctionDef):
                    text = ast.get_docstring(node)
                    if text:
                        yield text


if __name__ == "__main__":
    print(len(sentences(int(sys.argv[1]))))
