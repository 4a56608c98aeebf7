"""The small file that goes into the repository: what was learned, in half precision, and where it came from."""

import datetime
import json
from pathlib import Path

import numpy as np
from safetensors.numpy import load_file, save_file

from training.manuals import MANUALS

NAME = "joint-english"
TITLE = "joint English scorer"
PASSAGE_TOKENS = 256


def ship(place: Path, versions: dict[str, str], root: Path, steps: int) -> None:
    """Write `weights/joint-english.safetensors` and, beside it, its manifest with figures and provenance."""
    whole = load_file(place / "all" / "learned.safetensors")
    judged = json.loads((place / "judged.json").read_text())
    whole["matches"] = np.array(judged["matches"])
    learned = {name: value.astype(np.float16) for name, value in whole.items()}
    target = root / "weights"
    target.mkdir(exist_ok=True)
    save_file(learned, target / f"{NAME}.safetensors")
    chosen = judged["precision"]["chosen"]
    manifest = {
        "name": NAME,
        "title": TITLE,
        "licence": "Apache-2.0",
        "max_tokens": PASSAGE_TOKENS,
        "small": chosen == "int8",
        "blend": judged["blend"],
        "calibration": {key: judged["calibration"][key] for key in ("slope", "offset")},
        "provenance": {
            "joined_with": "the compact English encoder, as pinned in requirements-weights.txt",
            "made_by": "training/run",
            "made_on": datetime.date.today().isoformat(),
            "steps": steps,
            "text": [{"package": m.package, "version": versions[m.package], "licence": m.licence} for m in MANUALS],
        },
        "figures": {
            "questions": judged["mix"]["questions"],
            "mix": judged["mix"],
            "reranked": judged["reranked"],
            "chosen_elsewhere": judged["chosen_elsewhere"],
            "details": judged["details"],
            "precision": judged["precision"],
            "p": judged["p"],
            "calibration_error": judged["calibration"]["error"],
            "at_half": judged["calibration"]["at_half"],
        },
    }
    (target / f"{NAME}.json").write_text(json.dumps(manifest, indent=1) + "\n")
    for written in target.iterdir():
        written.chmod(0o644)
    size = (target / f"{NAME}.safetensors").stat().st_size
    print(f"{target / NAME}.safetensors: {size / 1e6:.2f} MB")
