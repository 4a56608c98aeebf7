"""The small file that goes into the repository: what was learned, in half precision, and where it came from."""

import datetime
import json
from pathlib import Path
from typing import Any

import numpy as np
from safetensors.numpy import load_file, save_file

from training.manuals import MANUALS
from training.mining import WINDOWS
from training.scoring import MAX_TOKENS
from training.weighing import WEIGHINGS, Weighing, shipped

NAME = "joint-english"
TITLE = "joint English scorer"
TOLD = ("together", "headings", "details", "cuts", "p", "manuals_with_a_gain")


def ship(place: Path, versions: dict[str, str], root: Path, steps: int) -> None:
    """Write `weights/joint-english.safetensors` and, beside it, its manifest with figures and provenance."""
    whole = load_file(place / "all" / "learned.safetensors")
    judged = json.loads((place / "judged.json").read_text())
    learned = {name: value.astype(np.float16) for name, value in whole.items()}
    target = root / "weights"
    target.mkdir(exist_ok=True)
    save_file(learned, target / f"{NAME}.safetensors")
    late, blend = judged["ships"]
    manifest = {
        "name": NAME,
        "title": TITLE,
        "licence": "Apache-2.0",
        "max_tokens": MAX_TOKENS,
        "small": True,
        "blend": judged["alone"][1],
        "window": WINDOWS[0],
        "calibration": {key: judged["pairs"][key] for key in ("slope", "offset")},
        "answerable": judged["questions"]["model"],
        "provenance": {
            "joined_with": "the compact English encoder, as pinned in requirements-weights.txt",
            "made_by": "training/run",
            "made_on": datetime.date.today().isoformat(),
            "steps": steps,
            "text": [{"package": m.package, "version": versions[m.package], "licence": m.licence} for m in MANUALS],
        },
        "figures": {
            "beside_it": {"late_interaction": late, "blend": blend},
            **{name: judged[name] for name in TOLD},
            "pairs_error": judged["pairs"]["error"],
            "questions": {key: judged["questions"][key] for key in ("error", "threshold", "kept", "left_empty")},
        },
    }
    (target / f"{NAME}.json").write_text(json.dumps(manifest, indent=1) + "\n")
    for weighing in WEIGHINGS:
        body = {**shipped(weighing, judged, WINDOWS[0]), "figures": figures_of(judged, weighing)}
        (target / f"{weighing.name}.json").write_text(json.dumps(body, indent=1) + "\n")
    for written in target.iterdir():
        written.chmod(0o644)
    size = (target / f"{NAME}.safetensors").stat().st_size
    print(f"{target / NAME}.safetensors: {size / 1e6:.2f} MB")


def figures_of(judged: dict[str, Any], weighing: Weighing) -> dict[str, Any]:
    """What weights did on manuals that neither they nor the scorer had seen."""
    own = judged["weighed"][weighing.name]
    shown = {kind: judged[kind][weighing.name] for kind in ("together", "headings", "details")}
    asked = {key: own["questions"][key] for key in ("error", "threshold", "kept", "left_empty")}
    return {**shown, "pairs_error": own["pairs"]["error"], "questions": asked}
