"""The sparse index beside SciPy: a column sum over the same scores, and argpartition."""

import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from bench.synthetic import zipf_postings
from bench.timing import Row, in_turns, mean_time
from scipy.sparse import csc_matrix, csr_matrix

from doppio.core.branches.sparse.fields import BODY, HEADINGS, TITLE, FieldedIndex, FieldWeight
from doppio.core.branches.sparse.index import Segment, SparseIndex
from doppio.core.branches.sparse.postings import Postings
from doppio.core.branches.sparse.weighting import VARIANTS, Weighting
from doppio.core.store.artifacts import ArtifactStore

DEPTH = 10
WEIGHTING = Weighting()
# What a sum over an uncompressed matrix of scores takes, by the columns of the terms alone: the fair anchor.
ANCHOR = "SciPy, sum over term columns (CSC)"


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
    first = mean_time(lambda q: index.search(q, DEPTH, WEIGHTING), questions)
    figures = {
        "pruned, asked for the first time, ms": 1e3 * first,
        "pruned ms": 1e3 * mean_time(lambda q: index.search(q, DEPTH, WEIGHTING), questions),
        "open ms": 1e3 * opening,
        "bytes a posting": sum(array.nbytes for array in made.arrays().values()) / max(entries, 1),
        "pack s": packing,
    }
    rows = [Row("open, sparse", "100 ms", "at most 1", figures["open ms"] / 100, 1.0, False)]
    if baseline:
        rows += variants(index, questions, figures)
        rows += fields(index, questions, figures)
        search = {
            "pruned": lambda q: index.search(q, DEPTH, WEIGHTING),
            "exhaustive": lambda q: index.search(q, DEPTH, WEIGHTING, exhaustive=True),
        }
        for form, name in ((csc_matrix, ANCHOR), (csr_matrix, "SciPy, sum over chunk rows (CSR)")):
            # A sum over rows takes a hundred times as long.
            asked = questions if form is csc_matrix else questions[:40]
            ask = scipy_search(index, questions, form)
            for question in questions[:3]:
                same(index, ask, question)
            for way, own in search.items():
                theirs, ours = in_turns(ask, own, asked)
                figures |= {f"{name} ms": 1e3 * theirs, f"{way} ms": 1e3 * ours}
                bound = {"pruned": 10.0, "exhaustive": 1.0}[way] if form is csc_matrix else None
                wanted = f"at least {bound:g}" if bound else ""
                rows.append(Row(f"{way} search", name, wanted, theirs / ours, bound, True))
    store.remove("postings", f"bench-{chunks}")
    return rows, figures


def variants(index: SparseIndex, questions: list[list[str]], figures: dict[str, float]) -> list[Row]:
    """Other weightings beside plain BM25, all of them pruned."""
    rows = []
    for variant in VARIANTS[1:]:
        begun = time.perf_counter()
        for question in questions:
            index.search(question, DEPTH, Weighting(variant))
        figures[f"{variant}, asked for the first time, ms"] = 1e3 * (time.perf_counter() - begun) / len(questions)
        plain, other = in_turns(
            lambda q: index.search(q, DEPTH, WEIGHTING),
            lambda q, own=Weighting(variant): index.search(q, DEPTH, own),  # type: ignore[misc]
            questions,
        )
        figures[f"{variant} ms"] = 1e3 * other
        rows.append(Row(f"pruned search, {variant}", "the same, okapi", "at most 3", other / plain, 3.0, False))
    return rows


def fields(index: SparseIndex, questions: list[list[str]], figures: dict[str, float]) -> list[Row]:
    """BM25F over three fields, the body being the index itself, beside plain BM25 over the body."""
    made = {
        name: SparseIndex([Segment(zipf_postings(index.count, seed=seed, length=length)[0])])
        for name, seed, length in ((TITLE, 1, 6), (HEADINGS, 2, 14))
    }
    fielded = FieldedIndex({**made, BODY: index})
    weights = {TITLE: FieldWeight(2.0, 0.75), HEADINGS: FieldWeight(1.5, 0.75), BODY: FieldWeight(1.0, 0.75)}
    forms = {tuple(question): [dict.fromkeys(weights, term) for term in question] for question in questions}
    for question in questions:
        index.search(question, DEPTH, WEIGHTING)
        fielded.search(forms[tuple(question)], DEPTH, weights, WEIGHTING.k1)
    plain, other = in_turns(
        lambda q: index.search(q, DEPTH, WEIGHTING),
        lambda q: fielded.search(forms[tuple(q)], DEPTH, weights, WEIGHTING.k1),
        questions,
    )
    found = {tuple(q): fielded.search(forms[tuple(q)], DEPTH, weights, WEIGHTING.k1)[0].tolist() for q in questions}
    _, explained = in_turns(
        lambda q: None, lambda q: fielded.explain(forms[tuple(q)], found[tuple(q)], weights, WEIGHTING.k1), questions
    )
    figures |= {"BM25F ms": 1e3 * other, "BM25F explain ms": 1e3 * explained}
    return [
        Row(
            "pruned search, BM25F over three fields",
            "plain BM25 over the body",
            "at most 5",
            other / plain,
            5.0,
            False,
        )
    ]


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
