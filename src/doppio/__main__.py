"""`./doppio`, once what it needs is installed."""

import gc

# Most of what a start makes stays; looking through it again and again for what does not takes a tenth of the start.
gc.set_threshold(50_000, 20, 50)

from doppio.command.app import main  # noqa: E402

main()
