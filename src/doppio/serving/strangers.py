"""Live questions beside the labelled ones of a workspace: how far off they are, and which are the farthest."""

from typing import Any

import numpy as np

from doppio.core.branches.dense.metric import of_unit_length
from doppio.core.errors import DoppioError
from doppio.core.measure.strangers import LEAST, beside_labelled
from doppio.recipes.opened import to_be_asked
from doppio.recipes.services import core_recipe
from doppio.serving.models import Published

# Of more the latest; enough for a share of one in a hundred.
MOST_LIVE, MOST_LABELLED, SHOWN = 400, 1000, 8


def strangers(published: Published) -> dict[str, Any]:
    """How far the questions whose words are kept are from the labelled ones.

    Raises
    ------
    DoppioError
        If there are too few, or the recipe has no branch of vectors.
    """
    kept = published.served.exclude(question="").order_by("-at").values_list("question", flat=True)
    live = list(dict.fromkeys(kept[: 4 * MOST_LIVE]))[:MOST_LIVE]
    labelled = list(published.workspace.questions.filter(set__measured=True).values_list("text", flat=True))
    labelled = list(dict.fromkeys(labelled))[:MOST_LABELLED]
    if len(live) < LEAST or len(labelled) < LEAST:
        raise DoppioError(
            f"There are {len(live)} kept and {len(labelled)} labelled questions; comparing takes {LEAST} of each."
        )
    pipeline = to_be_asked(published.workspace, core_recipe(published.recipe))
    encoder = next((branch.encoder for branch in pipeline.branches.values() if branch.encoder is not None), None)
    if encoder is None:
        raise DoppioError("This recipe has no branch of vectors, so nothing says how near questions are.")
    found = beside_labelled(*(of_unit_length(encoder.questions(texts)) for texts in (live, labelled)))
    assert found is not None
    order = np.argsort(found.nearest)[:SHOWN].tolist()
    return {
        "live": round(found.live, 4),
        "labelled": round(found.labelled, 4),
        "threshold": round(found.threshold, 4),
        "strangers": round(found.strangers, 4),
        "p": found.p,
        "compared": len(live),
        "beside": len(labelled),
        "farthest": [{"question": live[row], "nearest": round(float(found.nearest[row]), 4)} for row in order],
    }
