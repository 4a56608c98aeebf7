"""Why a start cannot go on."""


class LaunchError(Exception):
    """Something that Doppio needs is missing, and could not be installed or started."""
