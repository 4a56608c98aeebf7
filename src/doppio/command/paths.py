"""Where Doppio keeps what it makes."""

import os
from pathlib import Path

from doppio.launch.places import ROOT, VAR

MODELS = VAR / "models"
DEMO = Path(os.environ.get("DOPPIO_DEMO", ROOT / "demo"))

__all__ = ["DEMO", "MODELS", "ROOT", "VAR"]
