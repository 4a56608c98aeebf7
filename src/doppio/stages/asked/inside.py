"""Where answers stand within a stretch of a document."""


def inside(spans: list[tuple[int, int, int]], position: int, low: int, high: int) -> list[dict[str, int]]:
    """Parts of the answers within a range of a document, counted from its start."""
    return [
        {"start": max(start, low) - low, "end": min(end, high) - low}
        for owner, start, end in spans
        if owner == position and start < high and end > low
    ]
