"""What other parts may want to know of recipes."""

from django.dispatch import Signal

# Arguments: recipe (the version that was put in force) and user. Receivers return the job that they started, or None.
in_force = Signal()
