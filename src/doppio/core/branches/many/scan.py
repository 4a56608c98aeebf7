"""Loops over cells, codes and full vectors of tokens: compiled, each over some chunks of a segment."""

import numpy as np
from numba import njit

from doppio.core.branches.dense.codes import byte_product
from doppio.core.kernels.heap import offer
from doppio.core.kernels.lanes import LANES, best_sums


@njit(cache=True, nogil=True)
def glance(visited, gains, begins, gaps, scores, seen):  # type: ignore[no-untyped-def]
    """Give each chunk, for every token of the question, the gain of the best visited cell that it has a token in.

    Parameters
    ----------
    visited : (q, v) int64, cells of each token of the question, the best first
    gains : (q, v) float32, what each is worth more than a cell that is not visited
    begins, gaps : as in `CellLists`
    scores : (n,) float32, added to
    seen : (n,) int32, the last token of the question, counted from 1, that has given something; 0 where none has
    """
    for token in range(visited.shape[0]):
        for place in range(visited.shape[1]):
            cell, gain = visited[token, place], gains[token, place]
            chunk, gap, shift = np.int64(-1), np.int64(0), 0
            for at in range(begins[cell], begins[cell + 1]):
                byte = np.int64(gaps[at])
                gap |= (byte & 127) << shift
                if byte & 128:
                    shift += 7
                    continue
                chunk += gap
                gap, shift = np.int64(0), 0
                if seen[chunk] != token + 1:
                    seen[chunk] = token + 1
                    scores[chunk] += gain


@njit(cache=True, nogil=True)
def best_seen(scores, seen, left_out, heap_scores, heap_ids):  # type: ignore[no-untyped-def]
    """Offer chunks that were seen to a heap; returns how many it holds and how many were seen."""
    size, met = 0, 0
    for chunk in range(scores.size):
        if seen[chunk] == 0 or (left_out.size and left_out[chunk]):
            continue
        met += 1
        if size < heap_scores.size or scores[chunk] > heap_scores[0]:
            size = offer(heap_scores, heap_ids, size, scores[chunk], np.int64(chunk))
    return size, met


@njit(cache=True, nogil=True)
def score_codes(chunks, bounds, cells, codes, near, tables, weights, out):  # type: ignore[no-untyped-def]
    """Score chunks by their codes.

    Parameters
    ----------
    chunks : (m,) int64
    bounds, cells, codes : as in `TokenCodes`
    near : (g, c, 16) float32, products of centers with the question's tokens, sixteen together
    tables : (g, bytes, 256, 16) float32, what each value of each byte adds to them
    weights : (g, 16) float32
    out : (m,) float32, written
    """
    best = np.empty(LANES, np.float32)
    for at in range(chunks.size):
        first, after = bounds[chunks[at]], bounds[chunks[at] + 1]
        if first == after:
            out[at] = -1
            continue
        total = np.float32(0)
        for group in range(weights.shape[0]):
            best_sums(first, after, cells, near[group], codes, codes.shape[1], tables[group], best)
            for lane in range(LANES):
                total += weights[group, lane] * best[lane]
        out[at] = total


@njit(cache=True, nogil=True)
def score_full(chunks, spans, codes, scales, asked, factors, weights, out):  # type: ignore[no-untyped-def]
    """Score chunks by their full vectors.

    Parameters
    ----------
    chunks : (m,) int64
    spans, codes, scales : as in `token_vectors.Segment`
    asked : (q, d) int16, the question's tokens in twelve bits a number
    factors : (q,) float32, the scale of each
    weights : (q,) float64
    out : (m,) float64, written

    Notes
    -----
    Products are added as whole numbers, so a score depends on nothing but the chunk and the question.
    """
    best = np.empty(weights.size, np.float32)
    for at in range(chunks.size):
        begin, count = spans[chunks[at], 0], spans[chunks[at], 1]
        if count == 0:
            out[at] = -1.0
            continue
        for token in range(weights.size):
            best[token] = -np.inf
        for row in range(begin, begin + count):
            for token in range(weights.size):
                product = np.float32(byte_product(codes, row, asked[token])) * scales[row]
                best[token] = max(best[token], product)
        total = 0.0
        for token in range(weights.size):
            total += weights[token] * (best[token] * factors[token])
        out[at] = total
