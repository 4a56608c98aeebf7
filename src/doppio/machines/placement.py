"""Which machine holds which segments: evenly by size, and as they lie where that is even enough."""

from collections.abc import Mapping, Sequence

# What a machine may hold above its even share before segments leave it.
UNEVEN = 1.15

# For each segment the machines that hold it, in the order in which they are asked.
Placement = tuple[tuple[str, ...], ...]


def placed(
    machines: Sequence[str], sizes: Sequence[int], copies: int = 1, before: Placement | None = None
) -> Placement:
    """Place segments.

    Parameters
    ----------
    machines : sequence of str
        Those that are there.
    sizes : sequence of int
        Of each segment.
    copies : int
        Machines that hold each segment; at most as many as there are.
    before : Placement or None
        How they lie now.

    Notes
    -----
    The largest goes first, to the machine that holds least, which is at most 4/3 of the best there is [1]_; a machine
    that holds a segment keeps it as long as it has no more than its share and a little.

    References
    ----------
    .. [1] R. Graham, "Bounds on multiprocessing timing anomalies", SIAM Journal on Applied Mathematics 17(2), 1969.
    """
    names = sorted(machines)
    if not names:
        return tuple(() for _ in sizes)
    copies = min(copies, len(names))
    held = dict.fromkeys(names, 0)
    asked = dict.fromkeys(names, 0)
    share = UNEVEN * sum(sizes) * copies / len(names)
    found: list[tuple[str, ...]] = [()] * len(sizes)
    for place in sorted(range(len(sizes)), key=lambda at: (-sizes[at], at)):
        size = sizes[place]
        own = [name for name in (before[place] if before else ()) if name in held and held[name] + size <= share]
        own = own[:copies]
        while len(own) < copies:
            own.append(min((name for name in names if name not in own), key=lambda name: (held[name], name)))
        for name in own:
            held[name] += size
        # Each is asked of the machine that is asked least.
        own.sort(key=lambda name: (asked[name], name))
        asked[own[0]] += size
        found[place] = tuple(own)
    return tuple(found)


def groups_of(
    placement: Placement, wanted: Sequence[int], without: frozenset[str] = frozenset(), *, at_last: bool = False
) -> Mapping[str, tuple[int, ...]]:
    """Whom to ask for which segments; what nobody else holds is in none, or with `at_last` asked for all the same."""
    found: dict[str, list[int]] = {}
    for place in wanted:
        holders = placement[place]
        holder = next((name for name in holders if name not in without), holders[0] if at_last and holders else None)
        if holder is not None:
            found.setdefault(holder, []).append(place)
    return {name: tuple(places) for name, places in found.items()}
