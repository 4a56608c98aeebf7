"""The sparse index beside SciPy: a column sum over the same scores, and argpartition."""

import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from bench.synthetic import zipf_postings
from bench.timing import Row, mean_time
from scipy.sparse import csc_matrix, csr_matrix

from doppio.core.artifacts import ArtifactStore
from doppio.core.sparse.index import Segment, SparseIndex
from doppio.core.sparse.postings import Postings
from doppio.core.sparse.weighting import Weighting

DEPTH = 10
WEIGHTING = Weighting()


def measure(chunks: int, folder: Path, baseline: bool = True) -> tuple[list[Row], dict[str, float]]:
    """Ratios at a number of chunks, and the figures behind them."""
    begun = time.perf_counter()
    made, questions = zipf_postings(chunks)
    packing = time.perf_counter() - begun
    store = ArtifactStore(folder)
    store.write("postings", f"bench-{chunks}", made.arrays(), {})
    begun = time.perf_counter()
    index = SparseIndex([Segment(Postings.opened(store.open("postings", f"bench-{chunks}").arrays))])
    opening = time.perf_counter() - begun
    entries = int(made.held.sum(dtype=np.int64))
    for question in questions:
        index.search(question, DEPTH, WEIGHTING)
    figures = {
        "pruned ms": 1e3 * mean_time(lambda q: index.search(q, DEPTH, WEIGHTING), questions),
        "open ms": 1e3 * opening,
        "bytes a posting": sum(array.nbytes for array in made.arrays().values()) / max(entries, 1),
        "pack s": packing,
    }
    rows = [Row("open, sparse", "100 ms", "at most 1", figures["open ms"] / 100, 1.0, False)]
    if baseline:
        figures["exhaustive ms"] = 1e3 * mean_time(
            lambda q: index.search(q, DEPTH, WEIGHTING, exhaustive=True), questions[:30]
        )
        for name, form in (("chunk rows (CSR)", csr_matrix), ("term columns (CSC)", csc_matrix)):
            ask = scipy_search(index, questions, form)
            for question in questions[:3]:
                same(index, ask, question)
            figures[f"SciPy {name} ms"] = 1e3 * mean_time(ask, questions[:30])
            ratio = figures[f"SciPy {name} ms"] / figures["pruned ms"]
            wanted = 15.0 if form is csr_matrix else None
            rows.append(Row("pruned search", f"SciPy column sum over {name}", "at least 15", ratio, wanted, True))
        ratio = figures["SciPy chunk rows (CSR) ms"] / figures["exhaustive ms"]
        rows.append(Row("exhaustive search", "SciPy column sum over chunk rows (CSR)", "", ratio, None, True))
    store.remove("postings", f"bench-{chunks}")
    return rows, figures


def scipy_search(index: SparseIndex, questions: list[list[str]], form: Any) -> Callable[[list[str]], Any]:
    """A search by SciPy over a matrix of scores, one column for each term that is asked."""
    terms = sorted({term for question in questions for term in question})
    mean, lengths = index.mean, index.lengths()
    parts = []
    for term in terms:
        chunks, counts = index.holders(term)
        norm = WEIGHTING.k1 * (1 - WEIGHTING.b + WEIGHTING.b * lengths[chunks] / mean)
        idf = WEIGHTING.idf(index.count, len(chunks))
        parts.append((chunks, (idf * counts * (WEIGHTING.k1 + 1) / (counts + norm)).astype(np.float32)))
    begins = np.concatenate([[0], np.cumsum([len(chunks) for chunks, _ in parts])])
    columns = csc_matrix(
        (np.concatenate([s for _, s in parts]), np.concatenate([c for c, _ in parts]), begins),
        shape=(index.count, len(terms)),
    )
    matrix, column = form(columns), {term: place for place, term in enumerate(terms)}

    def ask(question: list[str]) -> Any:
        scores = np.asarray(matrix[:, [column[term] for term in question]].sum(axis=1)).ravel()
        top = np.argpartition(-scores, DEPTH)[:DEPTH]
        return top[np.argsort(-scores[top])], scores[top]

    return ask


def same(index: SparseIndex, ask: Callable[[list[str]], Any], question: list[str]) -> None:
    """Both must find chunks of the same scores."""
    ours, theirs = index.search(question, DEPTH, WEIGHTING)[1], np.sort(ask(question)[1])[::-1]
    np.testing.assert_allclose(ours, theirs[: len(ours)], rtol=1e-4)
