"""The line at the top of the screen."""
