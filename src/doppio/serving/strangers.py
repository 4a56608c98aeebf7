"""Live questions beside the labelled ones of a workspace: how far off they are, and which are the farthest."""

from typing import Any

import numpy as np
from numpy.typing import NDArray

from doppio.core.errors import DoppioError
from doppio.core.measure.strangers import LEAST, beside_labelled
from doppio.core.models.encoder import TextEncoder
from doppio.recipes.opened import pipelines
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
    pipeline = pipelines.get(published.workspace, core_recipe(published.recipe))
    encoder = next((branch.encoder for branch in pipeline.branches.values() if branch.encoder is not None), None)
    if encoder is None:
        raise DoppioError("This recipe has no branch of vectors, so nothing says how near questions are.")
    found = beside_labelled(_units(encoder, live), _units(encoder, labelled))
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


def _units(encoder: TextEncoder, texts: list[str]) -> NDArray[np.float32]:
    vectors = encoder.questions(texts)
    return vectors / np.maximum(np.linalg.norm(vectors, axis=1, keepdims=True), 1e-12).astype(np.float32)
