"""Where Doppio keeps what it makes."""

import os
from pathlib import Path

ROOT = Path(__file__).resolve().parents[3]
VAR = Path(os.environ.get("DOPPIO_VAR", ROOT / "var"))
MODELS = VAR / "models"
DEMO = Path(os.environ.get("DOPPIO_DEMO", ROOT / "demo"))
WEB = ROOT / "web"
