"""What other parts do beside the jobs of the worker."""

from django.dispatch import Signal

# Argument: stopping (an event). Sent once a day on a thread of its own; receivers look slowly through what is kept on
# disk and return a list of what is wrong with it.
looking_through = Signal()
