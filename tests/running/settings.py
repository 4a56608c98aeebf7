"""The settings that are in force, but for what would only cost time in tests."""

from doppio.site.settings import *  # noqa: F403

# Slow on purpose where a password is real.
PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]
# Tests send many requests that are refused on purpose.
LOGGING["handlers"]["stderr"]["level"] = "ERROR"  # type: ignore[index]  # noqa: F405
# Whatever is answered in a test is what the schema tells.
ONCE = {"whitenoise.middleware.WhiteNoiseMiddleware": "tests.server.files_once.FilesOnce"}
MIDDLEWARE = ["tests.server.told.AnswersAsTold", *(ONCE.get(name, name) for name in MIDDLEWARE)]  # noqa: F405
