"""Settings; what differs between installations comes from the environment that the launcher sets."""

import hashlib
import json
from pathlib import Path

from doppio.site import variables

ROOT = variables.ROOT
VAR = variables.VAR.value
WEB_DIST = ROOT / "web" / "dist"
DOPPIO_MODELS = variables.MODELS.value
DOPPIO_FILES = variables.FILES.value
DOPPIO_ARTIFACTS = variables.ARTIFACTS.value
DOPPIO_STORE = variables.STORE.value
DOPPIO_DASK = variables.DASK.value
DOPPIO_COPIES = variables.COPIES.value
DOPPIO_SEGMENT_CHUNKS = variables.SEGMENT.value
DOPPIO_CACHE_GB = variables.CACHE.value


def _secret(name: str) -> str:
    """A secret of this installation, made at set-up."""
    path = VAR / name
    return path.read_text().strip() if path.exists() else "not-set-up-yet-not-set-up-yet-not-set-up-yet-not-set"


def _database() -> dict[str, object]:
    path = variables.DATABASE.value
    found = json.loads(path.read_text()) if path.exists() else {"port": 5432, "user": "doppio", "password": ""}
    return {
        "ENGINE": "django.db.backends.postgresql",
        "HOST": found.get("host", "127.0.0.1"),
        "PORT": found["port"],
        "NAME": "doppio",
        "USER": found["user"],
        "PASSWORD": found["password"],
        "CONN_MAX_AGE": 60,
        "CONN_HEALTH_CHECKS": True,
        # Only statements that ask for it are prepared; see `library.planned`.
        "OPTIONS": {"connect_timeout": 5, "prepare_threshold": 5},
    }


SECRET_KEY = _secret("secret-key")
DEBUG = False
ALLOWED_HOSTS = ["127.0.0.1", "localhost", "[::1]", *variables.HOSTS.value]
# Addresses begin where they begin, whatever a client says.
FORCE_SCRIPT_NAME = ""
DATABASES = {"default": _database()}
ROOT_URLCONF = "doppio.site.urls"
WSGI_APPLICATION = "doppio.site.wsgi.application"
INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "rest_framework",
    "drf_spectacular",
    "procrastinate.contrib.django",
    "doppio.library",
    "doppio.jobs",
    "doppio.imports",
    "doppio.recipes",
    "doppio.questions",
    "doppio.trials",
    "doppio.stages",
    "doppio.serving",
]
MIDDLEWARE = [
    "doppio.site.headers.Headers",
    "django.middleware.security.SecurityMiddleware",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    # The gate stands before the files: the interface itself is for those who are signed in.
    "doppio.site.gate.SignedInOnly",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
]
TEMPLATES = [
    {
        "BACKEND": "django.template.backends.django.DjangoTemplates",
        "DIRS": [Path(__file__).parent / "templates"],
        "APP_DIRS": True,
        "OPTIONS": {"context_processors": ["django.template.context_processors.request"]},
    }
]
AUTH_PASSWORD_VALIDATORS = [{"NAME": "django.contrib.auth.password_validation.MinimumLengthValidator"}]
LOGIN_URL = "/sign-in"
# Browsers tell cookies of one host apart by their names alone, not by the port: every installation has its own.
INSTANCE = hashlib.blake2b(str(VAR.resolve()).encode(), digest_size=4).hexdigest()
SESSION_COOKIE_NAME, CSRF_COOKIE_NAME = f"doppio-session-{INSTANCE}", f"doppio-token-{INSTANCE}"
SESSION_COOKIE_HTTPONLY = CSRF_COOKIE_HTTPONLY = True
SESSION_COOKIE_SAMESITE = CSRF_COOKIE_SAMESITE = "Lax"
SESSION_COOKIE_AGE = 14 * 24 * 3600
# Other names than those of the loopback are served through a front of the operator's own that speaks HTTPS.
HOSTS: tuple[str, ...] = variables.HOSTS.value
SESSION_COOKIE_SECURE = CSRF_COOKIE_SECURE = bool(HOSTS)
CSRF_TRUSTED_ORIGINS = [f"https://{host}" for host in HOSTS]
SECURE_HSTS_SECONDS = 365 * 24 * 3600 if HOSTS else 0
SECURE_CONTENT_TYPE_NOSNIFF = True
SECURE_REFERRER_POLICY = "same-origin"
# How long is kept what nobody asked to be kept: ended jobs and their imports, uploads that were never started, and
# questions that people typed with what was found for them; and workspaces that were removed.
DOPPIO_KEEP_JOBS_DAYS = variables.KEEP_JOBS.value
DOPPIO_KEEP_UPLOADS_DAYS = variables.KEEP_UPLOADS.value
DOPPIO_KEEP_ASKED_DAYS = variables.KEEP_ASKED.value
DOPPIO_KEEP_REMOVED_DAYS = variables.KEEP_REMOVED.value
LANGUAGE_CODE = "en"
DATA_UPLOAD_MAX_NUMBER_FILES = 1000
# The largest recipe: 5,000 groups of 50 synonyms of 100 characters, in any script.
DATA_UPLOAD_MAX_MEMORY_SIZE = 128 << 20
USE_TZ = True
TIME_ZONE = "UTC"
STATIC_URL = "/static/"
WHITENOISE_ROOT = WEB_DIST if WEB_DIST.is_dir() else None
WHITENOISE_INDEX_FILE = False
WHITENOISE_AUTOREFRESH = False
REST_FRAMEWORK = {
    "DEFAULT_AUTHENTICATION_CLASSES": ["rest_framework.authentication.SessionAuthentication"],
    "DEFAULT_PERMISSION_CLASSES": ["rest_framework.permissions.IsAuthenticated", "doppio.library.access.ByRole"],
    "DEFAULT_RENDERER_CLASSES": ["rest_framework.renderers.JSONRenderer"],
    "DEFAULT_PARSER_CLASSES": ["doppio.site.parsers.CleanJSONParser", "rest_framework.parsers.MultiPartParser"],
    "DEFAULT_SCHEMA_CLASS": "drf_spectacular.openapi.AutoSchema",
    "EXCEPTION_HANDLER": "doppio.site.errors.answer",
}
SPECTACULAR_SETTINGS = {
    "TITLE": "Doppio",
    "VERSION": "1",
    "SERVE_INCLUDE_SCHEMA": False,
    "POSTPROCESSING_HOOKS": [
        "drf_spectacular.hooks.postprocess_schema_enums",
        "doppio.site.errors.with_problems",
    ],
}
LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "formatters": {"line": {"()": "doppio.site.logs.JsonLines"}},
    "handlers": {
        "stderr": {
            "class": "logging.StreamHandler",
            "formatter": "line",
            "level": variables.LOG.value,
        }
    },
    "root": {"handlers": ["stderr"]},
}
